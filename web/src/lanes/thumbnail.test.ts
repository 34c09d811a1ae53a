import { expect, it } from 'vitest';
import { valuesOf } from './thumbnail';

it('reads letters as values, and dots as nothing', () => {
  expect(valuesOf('0z.')).toEqual([0, 1, null]);
  expect(valuesOf('i')[0]).toBeCloseTo(0.5, 1);
});
