import { tableFromIPC, type FixedSizeList } from 'apache-arrow';
import { getBytes, type StreamOut } from './client';

/** Samples of a stream in memory: `values` holds `samples * width` floats, NaN where absent. */
export type Track = { values: Float32Array; samples: number; width: number; rate: number };

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

export async function loadTrack(stream: Pick<StreamOut, 'id' | 'rate' | 'shape'>, step = 1): Promise<Track> {
  const width = stream.shape.reduce((a, b) => a * b, 1);
  const values = decode(await getBytes(`/streams/${stream.id}/data?step=${step}`), width);
  return { values, width, samples: values.length / width, rate: rateOf(stream.rate) / step };
}
