import { describe, expect, it } from 'vitest';
import { withPoint, type Point } from './envelope';

const points: Point[] = [[0, 0], [2, 1], [5, 0.5]];

describe('an envelope', () => {
  it('takes a new point where it belongs in time, and in place of one at the same moment', () => {
    expect(withPoint(points, null, [3, 0.2])).toEqual([[0, 0], [2, 1], [3, 0.2], [5, 0.5]]);
    expect(withPoint(points, null, [2, 0.2])).toEqual([[0, 0], [2, 0.2], [5, 0.5]]);
  });

  it('moves a point, within 0 and 1 and not before the beginning', () => {
    expect(withPoint(points, 1, [6, 1.4])).toEqual([[0, 0], [5, 0.5], [6, 1]]);
    expect(withPoint(points, 0, [-3, -1])).toEqual([[0, 0], [2, 1], [5, 0.5]]);
  });

  it('loses a point, and is level at nothing without any', () => {
    expect(withPoint(points, 1, null)).toEqual([[0, 0], [5, 0.5]]);
    expect(withPoint([[4, 1]], 0, null)).toEqual([[0, 0]]);
  });
});
