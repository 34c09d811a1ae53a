import { describe, expect, it } from 'vitest';
import { Follower } from './follow';
import type { Body, BodyLevels } from './pose';

/** Hips that stand for a second, walk two metres in the next and jump to a metre's height in the third, at 10 Hz. */
function walk(): BodyLevels {
  const frames = 31;
  const root = new Float32Array(3 * frames);
  for (let f = 0; f < frames; f += 1) root.set([Math.min(2, Math.max(0, (f - 10) / 5)), f >= 20 ? 2 : 1, 0], 3 * f);
  const whole: Body = { bones: ['hips'], parents: [-1], offsets: new Float32Array(3), rotation: new Float32Array(4 * frames), root, frames, rate: 10, start: 0 };
  return { whole, near: null, performer: 1 } as unknown as BodyLevels;
}

describe('a view that follows', () => {
  it('stays while hips sway and goes with them when they go', () => {
    const levels = walk();
    const follower = new Follower();
    follower.begin(levels, 0);
    expect(follower.follow(levels, 1.1)).toBeNull(); // 20 cm
    let gone = 0;
    for (let t = 1.2; t < 1.95; t += 0.1) gone += follower.follow(levels, t)?.[0] ?? 0;
    expect(gone).toBeGreaterThan(1.3);
    expect(gone).toBeLessThan(1.8);
  });

  it('ends up within a leash of wherever somebody jumps to on the time line', () => {
    const levels = walk();
    const follower = new Follower();
    follower.begin(levels, 0);
    const step = [...follower.follow(levels, 3)!];
    expect(Math.hypot(2 - step[0], 1 - step[1], step[2])).toBeCloseTo(0.25, 6);
    const back = [...follower.follow(levels, 0)!];
    expect(Math.hypot(step[0] + back[0], step[1] + back[1])).toBeCloseTo(0.25, 6);
  });

  it('begins where the performer is when it is first asked', () => {
    expect(new Follower().follow(walk(), 2)).toBeNull();
  });

  it('stays where nothing is known of the hips', () => {
    const levels = walk();
    levels.whole.root.fill(NaN, 30);
    const follower = new Follower();
    follower.begin(levels, 0);
    expect(follower.follow(levels, 2)).toBeNull();
  });
});
