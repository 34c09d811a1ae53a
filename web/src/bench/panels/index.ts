import type { BenchPanel, Side } from './contract';
import { lanesPanel } from './lanes';
import { passesPanel } from './passes';
import { rigidBodiesPanel } from './rigid-bodies';
import { snagsPanel } from './snags';
import { transportPanel } from './transport';
import { viewPanel } from './view';

/** All panels of the Bench in the order in which they stand. A new one is a file and a line here. */
export const PANELS: BenchPanel[] = [
  passesPanel,
  viewPanel,
  snagsPanel,
  rigidBodiesPanel,
  lanesPanel,
  transportPanel,
];

export const panelsAt = (side: Side, panels = PANELS): BenchPanel[] => panels.filter((panel) => panel.side === side);
