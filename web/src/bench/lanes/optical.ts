import { createElement } from 'react';
import { levelFor, type Levels, type Track } from '../../api/tracks';
import { drawCurves, drawMatrix, type Paint } from '../../lanes/draw';
import type { Lane } from '../../lanes/lanes';
import { WordButton } from '../../parts/controls';
import type { LaneKind } from './contract';

const RESIDUAL_LIMIT_M = 0.025;
const CLOSED_PX = 74;
const ROW_PX = 12;

function hiddenPercent(markers: Track): number {
  let gone = 0;
  let all = 0;
  for (let s = 0; s < markers.samples; s += 16)
    for (let m = 0; m < markers.width; m += 3) {
      all += 1;
      if (Number.isNaN(markers.values[s * markers.width + m])) gone += 1;
    }
  return (100 * gone) / Math.max(1, all);
}

const within = (p: Paint, levels: Levels): Track => levelFor(levels, p.range.from, p.range.to);

/** The markers of the body: a matrix of all, and the curves of the one that is picked. */
export const opticalLanes: LaneKind = ({ tracks, names, marker, open, proposal, hasOptical, onOpen, onMarker }) => {
  const bodies = tracks['rigid bodies'];
  const markers = tracks.mended ?? tracks.labelled ?? bodies;
  if (!markers) return hasOptical ? [{ id: 'optical', name: 'Optical', detail: 'not labelled yet', height: 40 }] : [];
  const out: Lane[] = [{
    id: 'optical',
    name: createElement(WordButton, { onPress: onOpen, 'aria-expanded': open }, open ? 'Close' : markers === bodies ? 'Rigid bodies, open' : 'Optical, open'),
    detail: open ? undefined : `${names.length} ${markers === bodies ? 'bodies' : 'markers'} · ${hiddenPercent(markers.whole).toFixed(0)} % hidden`,
    height: open ? names.length * ROW_PX : CLOSED_PX,
    rows: open ? names : undefined,
    paint: (p: Paint) => drawMatrix(p, within(p, markers), tracks.residual ? within(p, tracks.residual) : null, names, RESIDUAL_LIMIT_M, marker),
    onPick: (y) => onMarker(Math.min(names.length - 1, Math.floor(y * names.length))),
  }];
  if (marker !== null)
    out.push({
      id: 'marker', name: names[marker], detail: proposal ? 'x y z · proposal dotted' : 'x y z · fills dashed', height: 108,
      paint: (p: Paint) => drawCurves(p, within(p, markers), tracks.labelled ? within(p, tracks.labelled) : null, marker, proposal),
    });
  return out;
};
