import { levelFor, type Levels, type Track } from '../../api/tracks';
import type { Schemas } from '../../api/client';
import { drawChannels, drawMissing, drawShare, drawWave, everHeard, limitsOf, type Paint } from '../../lanes/draw';
import type { Theme } from '../../theme';
import type { LaneKind } from './contract';

type DeclaredLane = NonNullable<Schemas['DeviceOut']['lane']>;
const DASHES: Record<string, number[]> = { solid: [], dashed: [3, 2], dotted: [1, 2] };

function atLeast([low, high]: [number, number], span: number): [number, number] {
  const middle = (low + high) / 2;
  return high - low >= span ? [low, high] : [middle - span / 2, middle + span / 2];
}

const known = new WeakMap<Track, number[]>();

/** As everHeard, looked for once: lanes are made again with every change on the page. */
function heardIn(track: Track, parts: number): number[] {
  const heard = known.get(track) ?? everHeard(track, parts);
  known.set(track, heard);
  return heard;
}

function paintOf(levels: Levels, lane: DeclaredLane, theme: Theme): (p: Paint) => void {
  const trackIn = (p: Paint) => levelFor(levels, p.range.from, p.range.to);
  if (lane.draws === 'wave') return (p) => drawWave(p, trackIn(p));
  if (lane.draws === 'share') {
    const heard = heardIn(levels.whole, lane.parts);
    return (p) => drawShare(p, trackIn(p), lane.parts, heard);
  }
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

function detailOf(levels: Levels, lane: DeclaredLane): string {
  return lane.draws === 'share' ? `${heardIn(levels.whole, lane.parts).length} ${lane.detail}` : lane.detail;
}

/** A lane for every device that delivered a stream, drawn as the device declares it. */
export const deviceLanes: LaneKind = ({ tracks, devices, theme }) =>
  devices.flatMap((device) => {
    const levels = tracks[device.id];
    if (!levels || !device.lane) return [];
    return [{ id: device.id, name: device.words, detail: detailOf(levels, device.lane), height: device.lane.height, paint: paintOf(levels, device.lane, theme) }];
  });
