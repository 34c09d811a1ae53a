import { keepPreviousData, useQueries, useQuery } from '@tanstack/react-query';
import { useMemo } from 'react';
import { get, getBytes, type CharacterOut } from '../api/client';
import { columns, decodeAbout, type Track } from '../api/tracks';
import type { BodyLevels } from '../view/pose';
import type { CharacterFile, CharacterMotion } from '../view/skin';
import { useAsking } from './push';

/** The characters of a production with their newest maps. */
export function useCharacters(production: number) {
  return useQuery({ queryKey: ['characters', production], queryFn: () => get<CharacterOut[]>(`/productions/${production}/characters`), refetchInterval: useAsking(8000) });
}

type Bones = { bones: string[]; parents: number[]; offsets_m: number[][]; worn?: number[][] };
type Limb = { slide_mm?: number; sink_mm?: number; knee_snap_share?: number };
type About = {
  character: Bones;
  performer: Bones;
  rate: number;
  map_version: number;
  shapes: string[];
  figures: { directions_deg: Record<string, number>; slide_mm: number; sink_mm: number; float_mm: number; knee_snap_share: number; flips: number; limbs: Record<string, Limb> };
  snags: { start_s: number; end_s: number; text: string; severity: number }[];
};

/** A warm-up on a character: what moves, and the figures by which its map is judged. */
export type WarmUpOn = { about: About; performer: BodyLevels; character: CharacterMotion; seconds: number };

function bodyOf(name: string, bones: Bones, rows: Track, from: number): BodyLevels {
  const turns = columns(rows, from + 3, 4 * bones.bones.length);
  return {
    performer: name, near: null,
    whole: {
      bones: bones.bones, parents: bones.parents, offsets: new Float32Array(bones.offsets_m.flat()), worn: bones.worn, rotation: turns.values,
      root: columns(rows, from, 3).values, frames: rows.samples, rate: rows.rate, start: 0,
    },
  };
}

/** A performer's warm-up on a character, as the server sends it. */
export function warmUpOf(name: string, bytes: ArrayBuffer): WarmUpOn {
  const { about, ...decoded } = decodeAbout<About>(bytes);
  const rows: Track = { ...decoded, rate: about.rate, start: 0 };
  const second = 3 + 4 * about.character.bones.length;
  const third = second + 3 + 4 * about.performer.bones.length;
  return {
    about,
    seconds: rows.samples / rows.rate,
    performer: bodyOf('performer', about.performer, rows, second),
    character: {
      name,
      levels: bodyOf(name, about.character, rows, 0),
      shapes: about.shapes.length ? { names: about.shapes, track: columns(rows, third, about.shapes.length) } : null,
    },
  };
}

/** A performer's warm-up on a character; asked for again when the map changes, and the one before stays until then. */
export function useWarmUpOn(character: CharacterOut, performer: number | null) {
  return useQuery({
    queryKey: ['warm-up on', character.id, performer, character.map.version],
    queryFn: async () => warmUpOf(character.name, await getBytes(`/characters/${character.id}/warm-ups/${performer}`)),
    enabled: performer !== null,
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    retry: false,
  });
}

const fileQuery = (character: CharacterOut, enabled: boolean) => ({
  queryKey: ['character file', character.id],
  queryFn: () => getBytes(`/characters/${character.id}/file`),
  enabled: enabled && character.skinned,
  staleTime: Infinity,
  retry: false,
});

/** A character's own file, as it was given: it stands at rest. */
export function useOwnFile(character: CharacterOut, wanted: boolean) {
  return useQuery(fileQuery(character, wanted));
}

/** The files of characters that have a skin, by the character's name, as they arrive. */
export function useCharacterFiles(characters: CharacterOut[]): Map<string, CharacterFile> {
  const found = useQueries({ queries: characters.map((c) => fileQuery(c, true)), combine: (all) => all.map((r) => r.data) });
  return useMemo(
    () =>
      new Map(
        characters.flatMap((c, i): [string, CharacterFile][] => {
          const bytes = found[i];
          if (!bytes) return [];
          const nodes = new Map(c.bones.map((name, b): [string, number] => [name, c.nodes[b] ?? -1]));
          return [[c.name, { bytes, upright: { scale: c.scale, rotation_xyzw: c.rotation_xyzw }, nodes }]];
        }),
      ),
    [characters, found],
  );
}
