import * as THREE from 'three';
import { describe, expect, it } from 'vitest';
import { morphsOf } from './morphs';

function face(relative: boolean): THREE.Mesh {
  const geometry = new THREE.BufferGeometry();
  const rest = [0, 0, 0, 1, 0, 0, 0, 1, 0];
  geometry.setAttribute('position', new THREE.Float32BufferAttribute(rest, 3));
  const moved = (deltas: number[]) => new THREE.Float32BufferAttribute(relative ? deltas : deltas.map((d, i) => d + rest[i]), 3);
  geometry.morphAttributes.position = [moved([0, 0, 0, 0, 0, 0.5, 0, 0, 0]), moved([0.1, 0, 0, 0, 0, 0.5, 0, 0, 0])];
  geometry.morphTargetsRelative = relative;
  const mesh = new THREE.Mesh(geometry);
  mesh.updateMorphTargets();
  return mesh;
}

describe('face shapes', () => {
  for (const relative of [true, false])
    it(`add up, ${relative ? 'as differences' : 'as whole shapes'}, and come back to rest`, () => {
      const mesh = face(relative);
      const [morphs] = morphsOf(new THREE.Group().add(mesh));
      const at = () => Array.from(mesh.geometry.getAttribute('position').array).map((v) => Math.round(v * 1e5) / 1e5);
      expect(mesh.geometry.morphAttributes.position).toBeUndefined();
      mesh.morphTargetInfluences!.splice(0, 2, 0.5, 1);
      morphs.apply();
      expect(at()).toEqual([0.1, 0, 0, 1, 0, 0.75, 0, 1, 0]);
      mesh.morphTargetInfluences!.splice(0, 2, 0, 0);
      morphs.apply();
      expect(at()).toEqual([0, 0, 0, 1, 0, 0, 0, 1, 0]);
    });

  it('shows what a file says at rest', () => {
    const mesh = face(true);
    mesh.morphTargetInfluences![0] = 1;
    morphsOf(mesh);
    expect(mesh.geometry.getAttribute('position').getZ(1)).toBe(0.5);
  });
});
