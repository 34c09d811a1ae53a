import { useMemo } from 'react';
import type { Lane } from '../../lanes/lanes';
import type { LaneArgs, LaneKind } from './contract';
import { deviceLanes } from './devices';
import { notLoadedLanes } from './not-loaded';
import { opticalLanes } from './optical';
import { snagLane } from './snags';
import { uncertaintyLane } from './uncertainty';

/** All kinds of lanes in the order in which they stand. A new one is a file and a line here. */
export const LANE_KINDS: LaneKind[] = [snagLane, opticalLanes, uncertaintyLane, deviceLanes, notLoadedLanes];

/** The lanes of a take. They are made anew when what they show changes, not with every drawing of the page. */
export function useBenchLanes(args: LaneArgs): Lane[] {
  const callbacks = ['onOpen', 'onMarker', 'onSnag'];
  const shown = Object.entries(args).filter(([name]) => !callbacks.includes(name)).map(([, value]) => value as unknown);
  // eslint-disable-next-line react-hooks/exhaustive-deps
  return useMemo(() => LANE_KINDS.flatMap((kind) => kind(args)), [...shown, args.open]);
}
