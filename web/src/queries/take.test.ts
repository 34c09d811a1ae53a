import { describe, expect, it } from 'vitest';
import type { StreamOut } from '../api/client';
import { keyOf, nearBy, stepOf, streamOf } from './take';

const stream = (values: Partial<StreamOut>): StreamOut => ({
  id: 1, name: 'mended', kind: 'markers', rate: '100/1', rate_hz: 100, start_s: 0, samples: 1000, shape: [3], details: { names: [], bones: [], parents: [], offsets_m: [], worn: [], file: '', notes: [], cameras: [], frames: 0, confidence: [], residual_mm: [], left_out: [], joints: [], turned_deg: [] }, computed: true, performer: 'Ines', prop: '', character: '',
  per_piece: 500, pieces: [1, 2], ...values,
});

describe('streams of a take', () => {
  it('are found by their name and whom they are about, the newest first, the room for everybody', () => {
    const all = [stream({ id: 1 }), stream({ id: 2 }), stream({ id: 3, performer: 'Tomas' }), stream({ id: 4, name: 'room', performer: '' })];
    expect(streamOf(all, 'mended', 'Ines')?.id).toBe(2);
    expect(streamOf(all, 'mended', 'Tomas')?.id).toBe(3);
    expect(streamOf(all, 'room', 'Tomas')?.id).toBe(4);
    expect(streamOf(all, 'mended', 'Ada')).toBeUndefined();
  });

  it('are kept by when they were, which a later line-up may tell anew', () => {
    const before = keyOf('whole', stream({}));
    expect(keyOf('whole', stream({ samples: 2000 }))).toEqual(before);
    expect(keyOf('whole', stream({ start_s: 1.3 }))).not.toEqual(before);
    expect(keyOf('whole', stream({ rate_hz: 100.02 }))).not.toEqual(before);
  });

  it('are loaded whole while they are short, thinned and near by when they are long', () => {
    const long = stream({ samples: 180_000, pieces: Array.from({ length: 360 }, (_, i) => i) });
    expect([stepOf(stream({})), stepOf(long)]).toEqual([1, 15]);
    expect(stepOf(stream({ kind: 'audio', samples: 48_000 * 1800 }))).toBe(1440);
    expect(nearBy(stream({}), { from: 0, to: 5 })).toBeNull();
    expect(nearBy(long, { from: 12, to: 14 })).toEqual([1000, 1500]);
    expect(nearBy(long, { from: -5, to: 4.9 })).toEqual([0, 500]);
    expect(nearBy(long, { from: 1799, to: 1810 })).toEqual([179_500, 180_000]);
    expect(nearBy(long, { from: 0, to: 1800 })).toBeNull();
    expect(nearBy(long, null)).toBeNull();
  });
});
