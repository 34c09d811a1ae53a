import { tableFromIPC, type FixedSizeList } from 'apache-arrow';
import { getBytes, type StreamOut } from './client';

/**
 * Samples of a stream in memory: `values` holds `samples * width` floats, NaN where absent. Sample i lies at
 * `start + i / rate` seconds of the take, by the clock that the line-up fitted.
 */
export type Track = { values: Float32Array; samples: number; width: number; rate: number; start: number };

/** The seconds of the take at which a sample lies. */
export const timeOf = (track: Pick<Track, 'start' | 'rate'>, sample: number): number => track.start + sample / track.rate;

/** The sample nearest to a moment of the take; it may lie before the first or after the last. */
export const sampleOf = (track: Pick<Track, 'start' | 'rate'>, time: number): number => Math.round((time - track.start) * track.rate);

/** The same, kept within the samples there are. */
export const nearestSample = (track: Track, time: number): number => Math.min(track.samples - 1, Math.max(0, sampleOf(track, time)));

export function rateOf(text: string): number {
  const [n, d] = text.split('/').map(Number);
  return n / (d || 1);
}

/** Decode an Arrow IPC stream with one fixed-size-list column of float32 into one array. */
export function decode(bytes: ArrayBuffer, width: number): Float32Array {
  const table = tableFromIPC(new Uint8Array(bytes));
  const column = table.getChild('values');
  const out = new Float32Array(table.numRows * width);
  let at = 0;
  for (const part of column?.data ?? []) {
    const list = part as unknown as { length: number; offset: number; type: FixedSizeList; children: { values: Float32Array }[] };
    const values = list.children[0].values;
    const from = list.offset * width;
    out.set(values.subarray(from, from + list.length * width), at);
    at += list.length * width;
  }
  return out;
}

/** An Arrow IPC stream of rows with what they hold as plain JSON in its metadata. */
export function decodeAbout<About>(bytes: ArrayBuffer): { about: About; values: Float32Array; width: number; samples: number } {
  const { schema } = tableFromIPC(new Uint8Array(bytes));
  const width = (schema.fields[0].type as FixedSizeList).listSize;
  const values = decode(bytes, width);
  return { about: JSON.parse(schema.metadata.get('about') ?? '{}') as About, values, width, samples: values.length / width };
}

/** Some columns of a track, as a track. */
export function columns(track: Track, from: number, count: number): Track {
  const values = new Float32Array(track.samples * count);
  for (let s = 0; s < track.samples; s += 1) values.set(track.values.subarray(s * track.width + from, s * track.width + from + count), s * count);
  return { ...track, values, width: count };
}

/** A motion file's samples, root place and then a turn per bone, as the two tracks the view works with. */
export function splitMotion(motion: Track): { r: Track; p: Track } {
  return { r: columns(motion, 3, motion.width - 3), p: columns(motion, 0, 3) };
}

/** What is needed of a stream to load it. */
export type Loadable = Pick<StreamOut, 'id' | 'rate_hz' | 'start_s' | 'shape' | 'samples' | 'pieces' | 'per_piece'>;

const MOST_KEPT_BYTES = 192e6;

/** Pieces of streams by name, those used last. They never change, and after a mend most pieces of the new tracks are known already. */
export class Pieces {
  private kept = new Map<number, Float32Array>();
  private bytes = 0;

  constructor(private readonly most = MOST_KEPT_BYTES) {}

  get(piece: number): Float32Array | undefined {
    const found = this.kept.get(piece);
    if (found) {
      this.kept.delete(piece);
      this.kept.set(piece, found);
    }
    return found;
  }

  put(piece: number, values: Float32Array): void {
    if (this.kept.has(piece)) return;
    this.kept.set(piece, values);
    this.bytes += values.byteLength;
    for (const [oldest, old] of this.kept) {
      if (this.bytes <= this.most || oldest === piece) break;
      this.kept.delete(oldest);
      this.bytes -= old.byteLength;
    }
  }
}

const KEPT = new Pieces();
type Fetch = (path: string) => Promise<ArrayBuffer>;

const widthOf = (stream: Pick<Loadable, 'shape'>): number => stream.shape.reduce((a, b) => a * b, 1);

/** All samples of a stream, every step-th, in one request. */
export async function loadThinned(stream: Loadable, step: number, fetchBytes: Fetch = getBytes): Promise<Track> {
  const width = widthOf(stream);
  const values = decode(await fetchBytes(`/streams/${stream.id}/data?step=${step}`), width);
  return { values, width, samples: values.length / width, rate: stream.rate_hz / step, start: stream.start_s };
}

/** Every sample of a stream from `first` to before `last`, and some more: whole pieces, only those that are not known yet being fetched. */
export async function loadSamples(stream: Loadable, first = 0, last = stream.samples, kept = KEPT, fetchBytes: Fetch = getBytes): Promise<Track> {
  const width = widthOf(stream);
  const per = Math.max(1, stream.per_piece);
  const from = Math.max(0, Math.floor(first / per));
  const to = Math.min(stream.pieces.length, Math.ceil(last / per));
  const parts = stream.pieces.slice(from, to).map((piece) => kept.get(piece));
  for (let i = 0; i < parts.length; i += 1) {
    if (parts[i]) continue;
    let end = i + 1;
    while (end < parts.length && !parts[end]) end += 1;
    const fetched = decode(await fetchBytes(`/streams/${stream.id}/data?start=${(from + i) * per}&end=${Math.min((from + end) * per, stream.samples)}`), width);
    for (let k = i; k < end; k += 1) {
      const part = fetched.slice((k - i) * per * width, (k - i + 1) * per * width);
      parts[k] = part;
      kept.put(stream.pieces[from + k], part);
    }
  }
  const values = new Float32Array(parts.reduce((n, part) => n + part!.length, 0));
  let at = 0;
  for (const part of parts) {
    values.set(part!, at);
    at += part!.length;
  }
  return { values, width, samples: values.length / width, rate: stream.rate_hz, start: stream.start_s + (from * per) / stream.rate_hz };
}

/** A stream in two levels of detail: `whole`, thinned where it is long, and every sample of a stretch where that is so. */
export type Levels = { whole: Track; near: Track | null };

const covers = (track: Track, whole: Track, from: number, to: number): boolean =>
  timeOf(track, -0.5) <= Math.max(from, whole.start) && timeOf(track, track.samples) >= Math.min(to, timeOf(whole, whole.samples - 1));

/** The finest level that shows all of a stretch of the take. */
export function levelFor(levels: Levels, from: number, to: number): Track {
  return levels.near !== null && covers(levels.near, levels.whole, from, to) ? levels.near : levels.whole;
}
