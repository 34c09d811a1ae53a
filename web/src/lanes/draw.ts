import { nearestSample, sampleOf, timeOf, type Track } from '../api/tracks';
import type { Theme } from '../theme';

/** What part of the take the lanes show, seconds. */
export type Range = { from: number; to: number };
export type Paint = { g: CanvasRenderingContext2D; width: number; height: number; range: Range; theme: Theme };

const x = (p: Paint, time: number) => ((time - p.range.from) / (p.range.to - p.range.from)) * p.width;

/** First and last sample of a track under each pixel column are found by this; no allocation per pixel. */
function sampleAt(p: Paint, track: Track, column: number): number {
  return sampleOf(track, p.range.from + (column / p.width) * (p.range.to - p.range.from));
}

/** A decent step for time ticks, seconds. */
export function tickStep(range: Range, width: number): number {
  const wanted = ((range.to - range.from) / width) * 130;
  return [0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300].find((s) => s >= wanted) ?? 600;
}

export function drawRuler(p: Paint, labelOf: (seconds: number) => string): void {
  const { g, theme, width, height } = p;
  g.clearRect(0, 0, width, height);
  const step = tickStep(p.range, width);
  g.font = `11px ${theme.mono}`;
  g.textBaseline = 'top';
  for (let i = Math.ceil(p.range.from / (step / 5)); i * (step / 5) <= p.range.to; i += 1) {
    const t = i * (step / 5);
    const major = i % 5 === 0;
    g.fillStyle = major ? theme.quiet : theme.hairline;
    g.fillRect(Math.round(x(p, t)), height - (major ? 7 : 4), 1, major ? 7 : 4);
    if (major) g.fillText(labelOf(t), Math.round(x(p, t)) + 4, 2);
  }
}

const rgb = (hex: string) => [1, 3, 5].map((i) => parseInt(hex.slice(i, i + 2), 16));

/** The picture that a matrix is drawn into before it is stretched, made anew only when its size changes. */
const matrix: { sheet: HTMLCanvasElement | null; image: ImageData | null } = { sheet: null, image: null };

function imageOf(g: CanvasRenderingContext2D, columns: number, rows: number): ImageData {
  if (matrix.image?.width !== columns || matrix.image.height !== rows) matrix.image = g.createImageData(columns, rows);
  else matrix.image.data.fill(0);
  return matrix.image;
}

/** Marker-by-time matrix: one row a marker, lit where seen, `wrong` where it sits off the body. */
export function drawMatrix(p: Paint, markers: Track, residual: Track | null, names: string[], limit: number, selected: number | null): void {
  const { g, theme, width, height } = p;
  const rows = markers.width / 3;
  const columns = Math.max(1, Math.round(width));
  const image = imageOf(g, columns, rows);
  const [left, right, middle, wrong, bright] = [theme.left, theme.right, theme.bone, theme.wrong, theme.selection].map(rgb);
  const sides = names.map((name) => (name.endsWith(' left') ? left : name.endsWith(' right') ? right : middle));
  for (let c = 0; c < columns; c += 1) {
    const a = sampleAt(p, markers, c);
    const b = Math.max(a + 1, sampleAt(p, markers, c + 1));
    if (b <= 0 || a >= markers.samples) continue;
    const step = Math.max(1, Math.floor((b - a) / 4));
    for (let m = 0; m < rows; m += 1) {
      let seen = 0;
      let worst = 0;
      let count = 0;
      for (let s = Math.max(0, a); s < Math.min(b, markers.samples); s += step) {
        count += 1;
        if (!Number.isNaN(markers.values[s * markers.width + m * 3])) seen += 1;
        if (residual) {
          const r = residual.values[nearestSample(residual, timeOf(markers, s)) * residual.width + m];
          if (r > worst) worst = r;
        }
      }
      if (seen * 2 < count || count === 0) continue;
      const colour = worst > limit ? wrong : m === selected ? bright : (sides[m] ?? middle);
      const at = (m * columns + c) * 4;
      image.data[at] = colour[0];
      image.data[at + 1] = colour[1];
      image.data[at + 2] = colour[2];
      image.data[at + 3] = worst > limit || m === selected ? 255 : 120;
    }
  }
  const sheet = (matrix.sheet ??= document.createElement('canvas'));
  sheet.width = columns;
  sheet.height = rows;
  sheet.getContext('2d')!.putImageData(image, 0, 0);
  g.clearRect(0, 0, width, height);
  g.imageSmoothingEnabled = false;
  const row = height / rows;
  for (let m = 0; m < rows; m += 1) g.drawImage(sheet, 0, m, columns, 1, 0, m * row, width, Math.max(0.8, row - (row > 3 ? 1 : 0.25)));
}

/** A path as a mend would make it: positions of samples from `first` on, null where it changes nothing. */
export type Proposal = { first: number; rate: number; start: number; path: ([number, number, number] | null)[] };

const reach = { low: 0, high: 0 };

/** What one axis of a marker reaches among samples, and of a proposal within the range, into `reach`. */
function measure(p: Paint, markers: Track, from: number, to: number, channel: number, proposal: Proposal | null, axis: number): void {
  reach.low = Infinity;
  reach.high = -Infinity;
  for (let s = from; s < to; s += 1) {
    const v = markers.values[s * markers.width + channel];
    if (v < reach.low) reach.low = v;
    if (v > reach.high) reach.high = v;
  }
  if (!proposal) return;
  for (let i = 0; i < proposal.path.length; i += 1) {
    const time = timeOf(proposal, proposal.first + i);
    const position = proposal.path[i];
    if (!position || time < p.range.from || time > p.range.to) continue;
    reach.low = Math.min(reach.low, position[axis]);
    reach.high = Math.max(reach.high, position[axis]);
  }
}

const SOLID: number[] = [];
const DASHED = [3, 3];
const DOTTED = [1.5, 2.5];

/** One marker's x, y and z over the visible time, each on its own scale band; filled samples dashed, a proposal dotted. */
export function drawCurves(p: Paint, markers: Track, before: Track | null, marker: number, proposal: Proposal | null = null): void {
  const { g, theme, width, height } = p;
  g.clearRect(0, 0, width, height);
  const a = Math.max(0, sampleAt(p, markers, 0));
  const b = Math.min(markers.samples, sampleAt(p, markers, width) + 1);
  const step = Math.max(1, Math.floor((b - a) / (width * 2)));
  for (let axis = 0; axis < 3; axis += 1) {
    const channel = marker * 3 + axis;
    measure(p, markers, a, b, channel, proposal, axis);
    const { low, high } = reach;
    if (!(high >= low)) continue;
    const top = (axis * height) / 3 + 3;
    const band = height / 3 - 6;
    const scale = band / Math.max(high - low, 0.02);
    g.strokeStyle = axis === 0 ? theme.left : axis === 1 ? theme.text : theme.right;
    for (let dash = 0; dash < 2; dash += 1) {
      g.setLineDash(dash ? DASHED : SOLID);
      g.beginPath();
      let open = false;
      for (let s = a; s < b; s += step) {
        const v = markers.values[s * markers.width + channel];
        const time = timeOf(markers, s);
        const filled = before !== null && Number.isNaN(before.values[nearestSample(before, time) * before.width + channel]);
        if (Number.isNaN(v) || filled !== (dash === 1)) {
          open = false;
          continue;
        }
        if (open) g.lineTo(x(p, time), top + band - (v - low) * scale);
        else g.moveTo(x(p, time), top + band - (v - low) * scale);
        open = true;
      }
      g.stroke();
    }
    if (proposal) {
      g.setLineDash(DOTTED);
      g.beginPath();
      let open = false;
      for (let i = 0; i < proposal.path.length; i += 1) {
        const position = proposal.path[i];
        if (position) {
          const px = x(p, timeOf(proposal, proposal.first + i));
          if (open) g.lineTo(px, top + band - (position[axis] - low) * scale);
          else g.moveTo(px, top + band - (position[axis] - low) * scale);
        }
        open = position !== null;
      }
      g.stroke();
    }
    g.setLineDash(SOLID);
    g.font = `10px ${theme.mono}`;
    const words = `${'xyz'[axis]} ${Math.round(low * 1000)}…${Math.round(high * 1000)} mm`;
    g.fillStyle = theme.ground; // curves must not run through the words
    g.fillRect(4, top - 2, g.measureText(words).width + 6, 13);
    g.fillStyle = theme.quiet;
    g.fillText(words, 6, top + 9);
  }
}

/** Those of a track's parts, by number, that ever answered: what was never worn is not missing. */
export function everHeard(track: Track, parts: number): number[] {
  const per = track.width / parts;
  return Array.from({ length: parts }, (_, k) => k).filter((k) => {
    for (let at = k * per; at < track.values.length; at += track.width) if (!Number.isNaN(track.values[at])) return true;
    return false;
  });
}

/** Share that answered of those of a device's parts that were ever heard, as a filled band; losses are holes. */
export function drawShare(p: Paint, track: Track, parts: number, heard: number[]): void {
  const { g, theme, width, height } = p;
  g.clearRect(0, 0, width, height);
  const per = track.width / parts;
  g.fillStyle = theme.good;
  for (let c = 0; c < width; c += 1) {
    const first = sampleAt(p, track, c);
    const end = Math.max(first + 1, sampleAt(p, track, c + 1));
    if (end <= 0 || first >= track.samples) continue;
    const [a, b] = [Math.max(0, first), Math.min(track.samples, end)];
    let lowest = 1;
    for (let s = a; s < b; s += 1) {
      let here = 0;
      for (const k of heard) if (!Number.isNaN(track.values[s * track.width + k * per])) here += 1;
      lowest = Math.min(lowest, here / Math.max(1, heard.length));
    }
    g.globalAlpha = 0.5;
    g.fillRect(c, height - 3 - lowest * (height - 6), 1, lowest * (height - 6));
  }
  g.globalAlpha = 1;
}

/** The worst of a track's channels over time as a filled band; where it is beyond a limit in the colour of wrong. */
export function drawWorst(p: Paint, track: Track, limit: number, most: number): void {
  const { g, theme, width, height } = p;
  g.clearRect(0, 0, width, height);
  for (let c = 0; c < width; c += 1) {
    const a = sampleAt(p, track, c);
    if (a < 0 || a >= track.samples) continue;
    const b = Math.min(track.samples, Math.max(a + 1, sampleAt(p, track, c + 1)));
    let worst = 0;
    for (let at = a * track.width; at < b * track.width; at += 1) worst = Math.max(worst, track.values[at]);
    const h = Math.max(1, Math.min(1, worst / most) * (height - 3));
    g.fillStyle = worst > limit ? theme.wrong : theme.good;
    g.fillRect(c, height - h, 1, h);
  }
}

/** Curves of a few channels, scaled to what they reach in the whole take; gaps stay gaps. */
export function drawChannels(p: Paint, track: Track, channels: { at: number; colour: string; dash: number[] }[], range: [number, number][], centre = 0): void {
  const { g, width, height } = p;
  if (centre === 0) g.clearRect(0, 0, width, height);
  channels.forEach((ch, i) => {
    const [low, high] = range[i];
    g.strokeStyle = ch.colour;
    g.setLineDash(ch.dash);
    g.beginPath();
    let open = false;
    const a = Math.max(0, sampleAt(p, track, 0) - 1);
    const b = Math.min(track.samples, sampleAt(p, track, width) + 2);
    const step = Math.max(1, Math.floor((b - a) / (width * 2)));
    for (let s = a; s < b; s += step) {
      const v = track.values[s * track.width + ch.at];
      if (Number.isNaN(v)) {
        open = false;
        continue;
      }
      const y = height - 3 - ((v - low) / Math.max(high - low, 1e-6)) * (height - 6);
      if (open) g.lineTo(x(p, timeOf(track, s)), y);
      else g.moveTo(x(p, timeOf(track, s)), y);
      open = true;
    }
    g.stroke();
  });
  g.setLineDash([]);
}

/** Hatched stretches where a stream delivered nothing. */
export function drawMissing(p: Paint, track: Track): void {
  const { g, theme, height } = p;
  g.strokeStyle = theme.wrong;
  let from = -1;
  for (let s = 0; s <= track.samples; s += 1) {
    const gone = s < track.samples && Number.isNaN(track.values[s * track.width]);
    if (gone && from < 0) from = s;
    if (!gone && from >= 0) {
      if ((s - from) / track.rate > 0.08) {
        const a = x(p, timeOf(track, from));
        const b = x(p, timeOf(track, s));
        g.save();
        g.beginPath();
        g.rect(a, 1, b - a, height - 2);
        g.clip();
        g.beginPath();
        for (let i = a - height; i < b; i += 5) {
          g.moveTo(i, height);
          g.lineTo(i + height, 0);
        }
        g.stroke();
        g.restore();
      }
      from = -1;
    }
  }
}

export function drawWave(p: Paint, track: Track): void {
  const { g, theme, width, height } = p;
  g.clearRect(0, 0, width, height);
  g.fillStyle = theme.quiet;
  for (let c = 0; c < width; c += 1) {
    const a = Math.max(0, sampleAt(p, track, c));
    const b = Math.min(track.samples, Math.max(a + 1, sampleAt(p, track, c + 1)));
    let peak = 0;
    for (let s = a; s < b; s += 1) peak = Math.max(peak, Math.abs(track.values[s * track.width]));
    const h = Math.max(1, Math.min(1, Math.sqrt(peak)) * (height - 4));
    g.fillRect(c, (height - h) / 2, 1, h);
  }
}

export function limitsOf(track: Track, channel: number): [number, number] {
  let low = Infinity;
  let high = -Infinity;
  for (let s = 0; s < track.samples; s += 1) {
    const v = track.values[s * track.width + channel];
    if (v < low) low = v;
    if (v > high) high = v;
  }
  return high >= low ? [low, high] : [0, 1];
}
