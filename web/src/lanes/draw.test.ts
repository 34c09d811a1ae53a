import { describe, expect, it } from 'vitest';
import { limitsOf, tickStep } from './draw';

describe('lanes', () => {
  it('chooses ticks that leave room for a timecode', () => {
    for (const span of [0.5, 3, 24, 90, 600]) {
      const step = tickStep({ from: 0, to: span }, 1000);
      expect((step / span) * 1000).toBeGreaterThanOrEqual(100);
    }
  });

  it('finds the reach of a channel and ignores what is missing', () => {
    const track = { values: new Float32Array([1, 9, NaN, 9, -2, 9]), samples: 3, width: 2, rate: 1 };
    expect(limitsOf(track, 0)).toEqual([-2, 1]);
    expect(limitsOf({ ...track, values: new Float32Array(6).fill(NaN) }, 0)).toEqual([0, 1]);
  });
});
