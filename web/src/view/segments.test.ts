import { describe, expect, it } from 'vitest';
import type { Body } from './pose';
import { segmentsOf } from './segments';

const body: Body = {
  bones: ['hips', 'leftUpperLeg', 'rightUpperLeg', 'rightIndexProximal'],
  parents: [-1, 0, 0, 2],
  offsets: new Float32Array(12),
  rotation: new Float32Array(16),
  root: new Float32Array(3),
  frames: 1,
  rate: 120, start: 0,
};

describe('segments', () => {
  it('tells left from right by shape: solid against dashes', () => {
    const left = segmentsOf(body).filter((s) => s.side === 'left');
    const right = segmentsOf(body).filter((s) => s.side === 'right' && s.bone === 2);
    expect(left).toHaveLength(1);
    expect(left[0]).toMatchObject({ from: 0, to: 1 });
    expect(right.length).toBeGreaterThan(1);
    right.slice(1).forEach((dash, i) => expect(dash.from).toBeGreaterThan(right[i].to));
  });

  it('draws fingers thin and nothing for the root', () => {
    const all = segmentsOf(body);
    expect(all.some((s) => s.bone === 0)).toBe(false);
    expect(all.find((s) => s.bone === 3)!.radius).toBeLessThan(all.find((s) => s.bone === 1)!.radius);
  });
});
