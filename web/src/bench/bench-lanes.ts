import { createElement, useMemo } from 'react';
import type { Track } from '../api/tracks';
import type { FailedTrack } from '../queries/take';
import type { SnagGroup } from './snags';
import { drawChannels, drawCurves, drawMatrix, drawMissing, drawPresence, drawWave, drawWorst, limitsOf, type Proposal, type Range } from '../lanes/draw';
import type { Lane } from '../lanes/lanes';
import { WordButton } from '../parts/controls';
import type { Theme } from '../theme';

const RESIDUAL_LIMIT_M = 0.025;
const SURE_WITHIN_M = 0.015; // a joint that may be off by more is drawn as wrong
const UNCERTAINTY_REACH_M = 0.06;
const SUIT_SENSORS = 17;
const GLOVE_SPAN = 180; // raw counts; a finger that hardly bends must not fill the lane with its noise

function atLeast([low, high]: [number, number], span: number): [number, number] {
  const middle = (low + high) / 2;
  return high - low >= span ? [low, high] : [middle - span / 2, middle + span / 2];
}

type Tracks = {
  markers?: Track; labelled?: Track; residual?: Track; uncertainty?: Track; suit?: Track; gloves?: Track; face?: Track; room?: Track;
};

type Args = {
  tracks: Tracks; names: string[]; groups: SnagGroup[]; selectedSnag: number; marker: number | null; open: boolean; theme: Theme;
  /** What a mend would make of the marker's path. */
  ghost: Proposal | null;
  jaw: number; blink: number; hasOptical: boolean;
  /** Streams that could not be loaded. */
  notLoaded: FailedTrack[];
  onOpen: () => void; onMarker: (m: number | null) => void; onSnag: (group: number, part: number) => void;
};

function snagMarks(args: Args, range: Range) {
  const span = range.to - range.from;
  return args.groups.flatMap((group, i) => group.snags.map((s, part) =>
    s.start_s > range.to || s.end_s < range.from
      ? null
      : createElement('button', {
          key: `${i}.${part}`,
          type: 'button',
          tabIndex: -1,
          title: s.text,
          'aria-label': s.text,
          onClick: () => args.onSnag(i, part),
          style: {
            position: 'absolute', left: `calc(${(100 * (s.start_s - range.from)) / span}% - 5px)`, top: 3, width: 10, height: 12, padding: 0,
            border: 0, cursor: 'pointer', clipPath: s.mended ? 'circle(3px)' : 'polygon(0 0, 100% 0, 50% 100%)',
            background: i === args.selectedSnag ? args.theme.selection : s.mended ? args.theme.good : args.theme.wrong,
          },
        }),
  ));
}

/** The lanes of a take, in a fixed order; those without data are left out. */
export function useBenchLanes(args: Args): Lane[] {
  const { tracks, names, marker, open, ghost, theme, jaw, blink } = args;
  const face = tracks.face;
  const gloves = tracks.gloves;
  const gloveRanges = useMemo(() => (gloves ? Array.from({ length: 10 }, (_, i) => atLeast(limitsOf(gloves, i * 3), GLOVE_SPAN)) : []), [gloves]);
  const jawRange = useMemo(() => (face ? limitsOf(face, jaw) : ([0, 1] as [number, number])), [face, jaw]);
  const blinkRange = useMemo(() => (face ? limitsOf(face, blink) : ([0, 1] as [number, number])), [face, blink]);
  const paints = useMemo(
    () => ({
      optical: (p: Parameters<typeof drawWave>[0]) => tracks.markers && drawMatrix(p, tracks.markers, tracks.residual ?? null, names, RESIDUAL_LIMIT_M, marker),
      curves: (p: Parameters<typeof drawWave>[0]) => tracks.markers && marker !== null && drawCurves(p, tracks.markers, tracks.labelled ?? null, marker, ghost),
      uncertainty: (p: Parameters<typeof drawWave>[0]) => tracks.uncertainty && drawWorst(p, tracks.uncertainty, SURE_WITHIN_M, UNCERTAINTY_REACH_M),
      suit: (p: Parameters<typeof drawWave>[0]) => tracks.suit && drawPresence(p, tracks.suit, SUIT_SENSORS),
      gloves: (p: Parameters<typeof drawWave>[0]) => {
        if (!gloves) return;
        const channels = gloveRanges.map((_, i) => ({ at: i * 3, colour: i < 5 ? theme.left : theme.right, dash: i < 5 ? [] : [3, 2] }));
        drawChannels(p, gloves, channels, gloveRanges);
      },
      face: (p: Parameters<typeof drawWave>[0]) => {
        if (!face) return;
        drawChannels(p, face, [{ at: jaw, colour: theme.text, dash: [] }, { at: blink, colour: theme.quiet, dash: [1, 2] }], [jawRange, blinkRange]);
        drawMissing(p, face);
      },
      room: (p: Parameters<typeof drawWave>[0]) => tracks.room && drawWave(p, tracks.room),
    }),
    [tracks.markers, tracks.labelled, tracks.residual, tracks.uncertainty, tracks.suit, tracks.room, gloves, face, names, marker, ghost, theme, gloveRanges, jawRange, blinkRange, jaw, blink],
  );
  const out: Lane[] = [{ id: 'snags', name: 'Snags', height: 18, content: (range) => snagMarks(args, range) }];
  if (tracks.markers) {
    const hidden = (() => {
      let gone = 0;
      let all = 0;
      for (let s = 0; s < tracks.markers.samples; s += 16)
        for (let m = 0; m < tracks.markers.width; m += 3) {
          all += 1;
          if (Number.isNaN(tracks.markers.values[s * tracks.markers.width + m])) gone += 1;
        }
      return (100 * gone) / Math.max(1, all);
    })();
    out.push({
      id: 'optical',
      name: createElement(WordButton, { onPress: args.onOpen, 'aria-expanded': open }, open ? 'Close' : 'Optical, open'),
      detail: open ? undefined : `${names.length} markers · ${hidden.toFixed(0)} % hidden`,
      height: open ? names.length * 12 : 74,
      rows: open ? names : undefined,
      paint: paints.optical,
      onPick: (y) => args.onMarker(Math.min(names.length - 1, Math.floor(y * names.length))),
    });
    if (marker !== null)
      out.push({ id: 'marker', name: names[marker], detail: ghost ? 'x y z · proposal dotted' : 'x y z · fills dashed', height: 108, paint: paints.curves });
  } else if (args.hasOptical) out.push({ id: 'optical', name: 'Optical', detail: 'not labelled yet', height: 40 });
  if (tracks.uncertainty) {
    let worst = 0;
    for (const v of tracks.uncertainty.values) if (v > worst) worst = v;
    out.push({ id: 'uncertainty', name: 'Uncertainty', detail: `joints, at worst ±${(1000 * worst).toFixed(0)} mm`, height: 30, paint: paints.uncertainty });
  }
  if (tracks.suit) out.push({ id: 'suit', name: 'Suit', detail: `${SUIT_SENSORS} sensors · received`, height: 30, paint: paints.suit });
  if (gloves) out.push({ id: 'gloves', name: 'Gloves', detail: 'left, right dashed · curl', height: 46, paint: paints.gloves });
  if (face) out.push({ id: 'face', name: 'Face', detail: 'jaw, lids dotted', height: 38, paint: paints.face });
  if (tracks.room) out.push({ id: 'room', name: 'Sound', detail: 'room', height: 34, paint: paints.room });
  for (const { name, message, retry } of args.notLoaded)
    out.push({
      id: `not loaded ${name}`, name, detail: 'not loaded', height: 34,
      content: () => createElement('div', { role: 'alert', style: { padding: '6px 10px', display: 'flex', gap: 12 } }, message, createElement(WordButton, { onPress: retry }, 'Try again')),
    });
  return out;
}
