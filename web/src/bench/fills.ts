import { useRef } from 'react';
import type { Levels, Track } from '../api/tracks';
import { sampleOf, timeOf } from '../api/tracks';
import type { Proposal } from '../lanes/draw';

/** A mend that has been accepted and is not solved yet: the path that it gives a marker. */
export type Fill = Proposal & { marker: number };

function withFills(track: Track, fills: Fill[]): Track {
  const values = track.values.slice();
  for (const fill of fills)
    fill.path.forEach((position, i) => {
      const sample = sampleOf(track, timeOf(fill, fill.first + i));
      if (position && sample >= 0 && sample < track.samples) values.set(position, sample * track.width + fill.marker * 3);
    });
  return { ...track, values };
}

/** Markers as they will be with the fills, seen before they are solved. */
export function usePatched(levels: Levels | undefined, fills: Fill[]): Levels | undefined {
  const kept = useRef<{ levels: Levels; fills: Fill[]; made: Levels } | null>(null);
  if (!levels || fills.length === 0) return levels;
  if (kept.current?.levels !== levels || kept.current.fills !== fills)
    kept.current = { levels, fills, made: { whole: withFills(levels.whole, fills), near: levels.near && withFills(levels.near, fills) } };
  return kept.current.made;
}
