import { useEffect, useMemo, useRef, useState } from 'react';
import * as THREE from 'three';
import { readCharacter, Skin, type CharacterFile, type CharacterMotion } from './skin';
import { software } from './software';

/** The same colours without gloss: the processor draws them several times as fast. */
function plain(material: THREE.Material | THREE.Material[]): THREE.Material | THREE.Material[] {
  if (Array.isArray(material)) return material.map((m) => plain(m) as THREE.Material);
  if (!(material instanceof THREE.MeshStandardMaterial)) return material;
  const { color, map, side, transparent, opacity, alphaTest, vertexColors } = material;
  return new THREE.MeshLambertMaterial({ color, map, side, transparent, opacity, alphaTest, vertexColors });
}

type Wanted = { motion: CharacterMotion; file: CharacterFile | null; aside: number };

/** The skins of characters that have one. A file is unpacked once, however often its motion changes. */
export function useSkins(characters: Wanted[]): { skin: Skin; aside: number }[] {
  const files = useMemo(() => characters.flatMap((c) => (c.file ? [c.file] : [])), [characters]);
  const [unpacked, setUnpacked] = useState<Map<ArrayBuffer, Skin>>(() => new Map());
  useEffect(() => {
    let here = true;
    for (const file of files) {
      if (unpacked.has(file.bytes)) continue;
      readCharacter(file.bytes).then(
        (gltf) => {
          if (software) gltf.scene.traverse((o) => { if (o instanceof THREE.Mesh) o.material = plain(o.material as THREE.Material | THREE.Material[]); });
          if (here) setUnpacked((now) => (now.has(file.bytes) ? now : new Map(now).set(file.bytes, new Skin(gltf, file))));
        },
        () => undefined, // its bones are still told by the figures beside it
      );
    }
    return () => {
      here = false;
    };
  }, [files, unpacked]);
  const kept = useRef(unpacked);
  kept.current = unpacked;
  useEffect(() => () => kept.current.forEach((skin) => skin.dispose()), []);
  return useMemo(
    () =>
      characters.flatMap(({ file, motion, aside }) => {
        const skin = file && unpacked.get(file.bytes);
        if (!skin) return [];
        skin.follow(motion);
        return [{ skin, aside }];
      }),
    [characters, unpacked],
  );
}
