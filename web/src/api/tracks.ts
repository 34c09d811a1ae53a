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

/** A motion file's samples, root place and then a turn per bone, as the two tracks the view works with. */
export function splitMotion(motion: Track): { r: Track; p: Track } {
  const turns = motion.width - 3;
  const p = new Float32Array(motion.samples * 3);
  const r = new Float32Array(motion.samples * turns);
  for (let s = 0; s < motion.samples; s += 1) {
    const at = s * motion.width;
    p.set(motion.values.subarray(at, at + 3), s * 3);
    r.set(motion.values.subarray(at + 3, at + motion.width), s * turns);
  }
  return { r: { ...motion, values: r, width: turns }, p: { ...motion, values: p, width: 3 } };
}

export async function loadTrack(stream: Pick<StreamOut, 'id' | 'rate_hz' | 'start_s' | 'shape'>, step = 1): Promise<Track> {
  const width = stream.shape.reduce((a, b) => a * b, 1);
  const values = decode(await getBytes(`/streams/${stream.id}/data?step=${step}`), width);
  return { values, width, samples: values.length / width, rate: stream.rate_hz / step, start: stream.start_s };
}
