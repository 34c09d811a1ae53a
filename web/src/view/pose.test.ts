import { describe, expect, it } from 'vitest';
import { bodyAt, pose, poseBuffers, type Body } from './pose';

const half = Math.SQRT1_2;

function arm(rotation: number[]): Body {
  return {
    bones: ['hips', 'leftUpperArm', 'leftLowerArm'],
    parents: [-1, 0, 1],
    offsets: new Float32Array([0, 0, 0, 0.2, 0, 0, 0.3, 0, 0]),
    rotation: new Float32Array(rotation),
    root: new Float32Array([1, 1, 0]),
    frames: 1,
    rate: 120, start: 0,
  };
}

describe('pose', () => {
  it('puts the joints of the rest pose at the sum of the offsets', () => {
    const out = poseBuffers(3);
    pose(arm([0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 0, 1]), 0, out);
    expect(Array.from(out.joints)).toEqual([1, 1, 0, 1.2, 1, 0, 1.5, 1, 0].map(Math.fround));
  });

  it('raises the forearm when the upper arm turns a quarter about z', () => {
    const out = poseBuffers(3);
    pose(arm([0, 0, 0, 1, 0, 0, half, half, 0, 0, 0, 1]), 0, out);
    expect(out.joints[6]).toBeCloseTo(1.2, 5);
    expect(out.joints[7]).toBeCloseTo(1.3, 5);
  });

  it('keeps to the frames there are', () => {
    const out = poseBuffers(3);
    pose(arm([0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 0, 1]), 99, out);
    expect(out.joints[0]).toBe(1);
  });

  it('is taken from every frame near by, and from the thinned whole elsewhere', () => {
    const whole = { ...arm([0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 0, 1]), frames: 100, rate: 1, start: 0 };
    const near = { ...whole, frames: 101, rate: 10, start: 20 };
    const levels = { performer: 'Ines', whole, near };
    expect([19, 20, 25, 30, 31].map((t) => bodyAt(levels, t) === near)).toEqual([false, true, true, true, false]);
    expect(bodyAt({ ...levels, near: null }, 25)).toBe(whole);
  });
});
