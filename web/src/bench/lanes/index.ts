import { useMemo } from 'react';
import type { Lane } from '../../lanes/lanes';
import type { LaneArgs, LaneKind } from './contract';
import { deviceLanes } from './devices';
import { notLoadedLanes } from './not-loaded';
import { opticalLanes } from './optical';
import { reachLanes } from './reach';
import { snagLane } from './snags';
import { uncertaintyLane } from './uncertainty';

/** All kinds of lanes in the order in which they stand. A new one is a file and a line here. */
export const LANE_KINDS: LaneKind[] = [snagLane, reachLanes, opticalLanes, uncertaintyLane, deviceLanes, notLoadedLanes];

export function benchLanes(args: LaneArgs, kinds = LANE_KINDS): Lane[] {
  return kinds.flatMap((kind) => kind(args));
}

/** The lanes of a take. They are made anew when what they show changes, not with every drawing of the page. */
export function useBenchLanes(args: LaneArgs): Lane[] {
  const shown = Object.values(args).filter((value) => typeof value !== 'function') as unknown[];
  // eslint-disable-next-line react-hooks/exhaustive-deps
  return useMemo(() => benchLanes(args), shown);
}
