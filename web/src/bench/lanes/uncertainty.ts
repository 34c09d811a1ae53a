import { levelFor } from '../../api/tracks';
import { drawWorst, type Paint } from '../../lanes/draw';
import type { LaneKind } from './contract';

const SURE_WITHIN_M = 0.015; // a joint that may be off by more is drawn as wrong
const REACH_M = 0.06;

/** How sure the solve is of the body: the worst joint at every moment. */
export const uncertaintyLane: LaneKind = ({ tracks }) => {
  const levels = tracks['joint uncertainty'];
  if (!levels) return [];
  let worst = 0;
  for (const v of levels.whole.values) if (v > worst) worst = v;
  return [{
    id: 'uncertainty', name: 'Uncertainty', detail: `joints, at worst ±${(1000 * worst).toFixed(0)} mm`, height: 30,
    paint: (p: Paint) => drawWorst(p, levelFor(levels, p.range.from, p.range.to), SURE_WITHIN_M, REACH_M),
  }];
};
