import { levelFor, type Levels } from '../../api/tracks';
import type { Schemas } from '../../api/client';
import { drawChannels, drawMissing, drawShare, drawWave, limitsOf, type Paint } from '../../lanes/draw';
import type { Theme } from '../../theme';
import type { LaneKind } from './contract';

type DeclaredLane = NonNullable<Schemas['DeviceOut']['lane']>;
const DASHES: Record<string, number[]> = { solid: [], dashed: [3, 2], dotted: [1, 2] };

function atLeast([low, high]: [number, number], span: number): [number, number] {
  const middle = (low + high) / 2;
  return high - low >= span ? [low, high] : [middle - span / 2, middle + span / 2];
}

function paintOf(levels: Levels, lane: DeclaredLane, theme: Theme): (p: Paint) => void {
  const trackIn = (p: Paint) => levelFor(levels, p.range.from, p.range.to);
  if (lane.draws === 'wave') return (p) => drawWave(p, trackIn(p));
  if (lane.draws === 'share') return (p) => drawShare(p, trackIn(p), lane.parts);
  const ranges = lane.curves.map((c) => atLeast(limitsOf(levels.whole, c.channel), lane.least_span));
  const colours: Record<string, string> = { left: theme.left, right: theme.right };
  const channels = lane.curves.map((c) => ({
    at: c.channel, dash: DASHES[c.line] ?? [], colour: colours[c.side] ?? (c.line === 'dotted' ? theme.quiet : theme.text),
  }));
  return (p) => {
    drawChannels(p, trackIn(p), channels, ranges);
    drawMissing(p, trackIn(p));
  };
}

/** A lane for every device that delivered a stream, drawn as the device declares it. */
export const deviceLanes: LaneKind = ({ tracks, devices, theme }) =>
  devices.flatMap((device) => {
    const levels = tracks[device.id];
    if (!levels || !device.lane) return [];
    return [{ id: device.id, name: device.words, detail: device.lane.detail, height: device.lane.height, paint: paintOf(levels, device.lane, theme) }];
  });
