import { levelFor } from '../../api/tracks';
import { drawWorst, type Paint } from '../../lanes/draw';
import type { LaneKind } from './contract';

const SURE_WITHIN_M = 0.015; // a joint that may be off by more is drawn as wrong
const MORE_THAN_USUAL = 1.25; // where nothing better is to be had, as from a suit alone, only what is worse than usual
const REACH_M = 0.06;

/** How sure the solve is of the body: the worst joint at every moment. */
export const uncertaintyLane: LaneKind = ({ tracks }) => {
  const levels = tracks['joint uncertainty'];
  if (!levels) return [];
  const { values, samples, width } = levels.whole;
  const worsts = Array.from({ length: samples }, (_, at) => {
    let worst = 0;
    for (let j = at * width; j < (at + 1) * width; j += 1) if (values[j] > worst) worst = values[j];
    return worst;
  }).sort((one, other) => one - other);
  const worst = worsts.at(-1) ?? 0;
  const sure = Math.max(SURE_WITHIN_M, MORE_THAN_USUAL * (worsts[samples >> 1] ?? 0));
  return [{
    id: 'uncertainty', name: 'Uncertainty', detail: `joints, at worst ±${(1000 * worst).toFixed(0)} mm`, height: 30,
    paint: (p: Paint) => drawWorst(p, levelFor(levels, p.range.from, p.range.to), sure, Math.max(REACH_M, 1.6 * sure)),
  }];
};
