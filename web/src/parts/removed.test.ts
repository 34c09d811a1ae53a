import { describe, expect, it } from 'vitest';
import { sizeWords, untilWords } from './removed';

describe('sizes', () => {
  it.each([[0, '0 kB'], [900, '0.9 kB'], [12_345, '12 kB'], [999_499, '999 kB'], [999_600, '1.0 MB'], [22_600_000, '22.6 MB'], [529e6, '529 MB'], [1.5e12, '1.5 TB'], [4e15, '4000 TB']])('%d is %s', (bytes, words) => {
    expect(sizeWords(bytes)).toBe(words);
  });
});

describe('how long it is until then', () => {
  const now = Date.parse('2026-11-27T09:00:00Z');
  it.each([['2026-12-11T09:00:00Z', 'in 14 days'], ['2026-11-28T09:00:00Z', 'in 24 hours'], ['2026-11-27T10:00:00Z', 'in 1 hour'], ['2026-11-27T09:20:00Z', 'within the hour'], ['2026-11-27T08:59:00Z', 'now']])('%s is %s', (due, words) => {
    expect(untilWords(due, now)).toBe(words);
  });
});
