import { FixedSizeList, Field, Float32, makeData, RecordBatch, Schema, Struct, tableToIPC, Table } from 'apache-arrow';
import { describe, expect, it } from 'vitest';
import { splitMotion, decode, rateOf } from './tracks';

function stream(batches: number[][], width: number): ArrayBuffer {
  const type = new FixedSizeList(width, new Field('item', new Float32(), true));
  const schema = new Schema([new Field('values', type, true)]);
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

describe('a motion file', () => {
  it('is split into places and turns', () => {
    const values = new Float32Array([1, 2, 3, 0, 0, 0, 1, 4, 5, 6, 0, 1, 0, 0]);
    const { r, p } = splitMotion({ values, samples: 2, width: 7, rate: 60, start: 0 });
    expect([...p.values]).toEqual([1, 2, 3, 4, 5, 6]);
    expect([...r.values]).toEqual([0, 0, 0, 1, 0, 1, 0, 0]);
    expect([r.width, p.width, r.samples, p.rate]).toEqual([4, 3, 2, 60]);
  });
});
