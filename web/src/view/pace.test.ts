import { describe, expect, it } from 'vitest';
import { Pace } from './pace';

function play(pace: Pace, interval: number, pictures: number, from = 1000): number[] {
  return Array.from({ length: pictures }, (_, i) => pace.next(from + i * interval));
}

describe('the pace of playback', () => {
  it('keeps full detail where drawing is quick', () => {
    expect(new Set(play(new Pace(), 16.7, 100))).toEqual(new Set([1]));
  });

  it('gives up detail step by step where it is slow, and not below the last step', () => {
    const shares = play(new Pace(), 60, 60);
    expect(shares[0]).toBe(1);
    expect([...new Set(shares)]).toEqual([1, 0.7, 0.5, 0.36]);
    expect(shares.at(-1)).toBe(0.36);
  });

  it('does not get finer and coarser by turns', () => {
    const pace = new Pace();
    play(pace, 60, 12);
    expect(new Set(play(pace, 10, 80, 5000))).toEqual(new Set([0.7]));
  });

  it('takes no pause of the page for slow drawing', () => {
    const pace = new Pace();
    const shares = Array.from({ length: 40 }, (_, i) => pace.next(1000 + i * 500));
    expect(new Set(shares)).toEqual(new Set([1]));
  });

  it('stands still in full detail and begins where it had come to, one step finer', () => {
    const pace = new Pace(1);
    play(pace, 60, 40);
    expect(pace.stop()).toBe(1);
    expect(pace.next(9000)).toBe(0.5);
    pace.stop();
    pace.stop();
    pace.stop();
    expect(pace.next(9900)).toBe(0.7);
  });
});
