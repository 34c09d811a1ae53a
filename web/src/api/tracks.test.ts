import { FixedSizeList, Field, Float32, makeData, RecordBatch, Schema, Struct, tableToIPC, Table } from 'apache-arrow';
import { describe, expect, it } from 'vitest';
import { columns, decode, decodeAbout, levelFor, loadSamples, Pieces, rateOf, splitMotion, type Track } from './tracks';

function stream(batches: number[][], width: number, about?: object): ArrayBuffer {
  const type = new FixedSizeList(width, new Field('item', new Float32(), true));
  const schema = new Schema([new Field('values', type, true)], about && new Map([['about', JSON.stringify(about)]]));
  const parts = batches.map((values) => {
    const length = values.length / width;
    const child = makeData({ type: new Float32(), length: values.length, data: new Float32Array(values) });
    const list = makeData({ type, length, child });
    return new RecordBatch(schema, makeData({ type: new Struct(schema.fields), length, children: [list] }));
  });
  const bytes = tableToIPC(new Table(schema, parts), 'stream');
  return bytes.buffer.slice(bytes.byteOffset, bytes.byteOffset + bytes.byteLength) as ArrayBuffer;
}

describe('tracks', () => {
  it('joins the batches of an Arrow stream in order and keeps NaN', () => {
    const out = decode(stream([[1, 2, 3, 4, 5, 6], [7, NaN, 9]], 3), 3);
    expect(Array.from(out.slice(0, 7))).toEqual([1, 2, 3, 4, 5, 6, 7]);
    expect(out[7]).toBeNaN();
    expect(out.length).toBe(9);
  });

  it('reads an empty stream', () => {
    expect(decode(stream([], 4), 4).length).toBe(0);
  });

  it('reads exact rates', () => {
    expect(rateOf('30000/1001')).toBeCloseTo(29.97003, 5);
    expect(rateOf('120')).toBe(120);
  });
});

describe('rows that say what they hold', () => {
  it('come with it, and are cut into columns', () => {
    const { about, ...rows } = decodeAbout<{ rate: number }>(stream([[1, 2, 3, 4], [5, 6, 7, 8]], 4, { rate: 30 }));
    expect([about.rate, rows.width, rows.samples]).toEqual([30, 4, 2]);
    const middle = columns({ ...rows, rate: 30, start: 0 }, 1, 2);
    expect([middle.width, ...middle.values]).toEqual([2, 2, 3, 6, 7]);
  });
});

describe('a motion file', () => {
  it('is split into places and turns', () => {
    const values = new Float32Array([1, 2, 3, 0, 0, 0, 1, 4, 5, 6, 0, 1, 0, 0]);
    const { r, p } = splitMotion({ values, samples: 2, width: 7, rate: 60, start: 0 });
    expect([...p.values]).toEqual([1, 2, 3, 4, 5, 6]);
    expect([...r.values]).toEqual([0, 0, 0, 1, 0, 1, 0, 0]);
    expect([r.width, p.width, r.samples, p.rate]).toEqual([4, 3, 2, 60]);
  });
});

describe('pieces of a stream', () => {
  /** A stream of 25 samples of width 2 in pieces of 10, and what has been fetched of it. */
  function served(pieces = [7, 8, 9]) {
    const stream_ = { id: 4, rate_hz: 10, start_s: 1, shape: [2], samples: 25, per_piece: 10, pieces };
    const fetched: string[] = [];
    const fetchBytes = (path: string) => {
      fetched.push(path);
      const [start, end] = ['start', 'end'].map((k) => Number(new URLSearchParams(path.split('?')[1]).get(k)));
      return Promise.resolve(stream([Array.from({ length: (end - start) * 2 }, (_, i) => start * 2 + i)], 2));
    };
    return { stream: stream_, fetched, fetchBytes };
  }

  it('are fetched once, in one request where they lie together, and put together', async () => {
    const kept = new Pieces();
    const { stream: s, fetched, fetchBytes } = served();
    const whole = await loadSamples(s, 0, 25, kept, fetchBytes);
    expect([...whole.values]).toEqual(Array.from({ length: 50 }, (_, i) => i));
    expect(fetched).toEqual(['/streams/4/data?start=0&end=25']);
    const again = served([7, 11, 9]); // the next run made one piece anew
    const mended = await loadSamples(again.stream, 0, 25, kept, again.fetchBytes);
    expect(again.fetched).toEqual(['/streams/4/data?start=10&end=20']);
    expect([...mended.values]).toEqual([...whole.values]);
  });

  it('are those that hold the samples asked for, with their own beginning', async () => {
    const { stream: s, fetchBytes } = served();
    const part = await loadSamples(s, 12, 21, new Pieces(), fetchBytes);
    expect([part.samples, part.start, part.values[0]]).toEqual([15, 2, 20]);
  });

  it('are forgotten when there are too many, those used longest ago first', () => {
    const kept = new Pieces(100);
    kept.put(1, new Float32Array(10));
    kept.put(2, new Float32Array(10));
    kept.get(1);
    kept.put(3, new Float32Array(10));
    expect([1, 2, 3].map((piece) => kept.get(piece) !== undefined)).toEqual([true, false, true]);
  });
});

describe('levels of detail', () => {
  const track = (samples: number, rate: number, start: number): Track => ({ values: new Float32Array(samples), samples, width: 1, rate, start });
  const levels = { whole: track(100, 1, 0), near: track(200, 10, 40) };

  it('shows every sample where all of them are there, and the whole elsewhere', () => {
    expect(levelFor(levels, 42, 55)).toBe(levels.near);
    expect(levelFor(levels, 30, 50)).toBe(levels.whole);
    expect(levelFor(levels, 55, 70)).toBe(levels.whole);
    expect(levelFor({ whole: levels.whole, near: null }, 42, 43)).toBe(levels.whole);
  });

  it('asks for no more than there is', () => {
    expect(levelFor({ whole: track(10, 1, 5), near: track(100, 10, 5) }, 0, 60)).not.toBe(undefined);
    expect(levelFor({ whole: track(10, 1, 5), near: track(91, 10, 5) }, 0, 60).rate).toBe(10);
  });
});
