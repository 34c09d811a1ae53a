import { describe, expect, it } from 'vitest';
import { cameraOf, hiddenShare, project, ray, rayAcross } from './lens';

const s = Math.SQRT1_2;
const row = {
  id: 'c01', width: 2048, height: 1536, focal_px: [1300, 1305], centre_px: [1030, 760], distortion: [-0.1, 0.02, 3e-4, -2e-4, 0.004],
  position_m: [0, 1, -4], rotation_xyzw: [0, 0, 1, 0], // stands on its feet: its +Y points down, it looks along the world's +Z
};

/** How far a place lies from the stretch between two others. */
function apart(p: number[], a: number[], b: number[]) {
  const [dx, dy] = [b[0] - a[0], b[1] - a[1]];
  const t = Math.max(0, Math.min(1, ((p[0] - a[0]) * dx + (p[1] - a[1]) * dy) / (dx * dx + dy * dy)));
  return Math.hypot(p[0] - a[0] - t * dx, p[1] - a[1] - t * dy);
}

describe('a calibrated camera', () => {
  it('shows the point on its axis at its centre, and what is higher further up in the picture', () => {
    const c = cameraOf(row);
    expect(project(c, 0, 1, 0)![0]).toBeCloseTo(1030, 6);
    expect(project(c, 0, 1, 0)![1]).toBeCloseTo(760, 6);
    expect(project(c, 0, 1.5, 0)![1]).toBeLessThan(760);
    expect(project(c, 0, 1, -5)).toBeNull();
    expect(project(c, 9, 1, 0)).toBeNull();
  });
  it('looks back along the ray of a picture place', () => {
    const c = cameraOf({ ...row, rotation_xyzw: [0, s * 0.2, s, 0].map((v) => v / Math.hypot(s * 0.2, s)) });
    for (const [u, v] of [[100, 80], [1030, 760], [1900, 1400]]) {
      const d = ray(c, u, v);
      const at = project(c, c.position[0] + 3 * d[0], c.position[1] + 3 * d[1], c.position[2] + 3 * d[2])!;
      expect(at[0]).toBeCloseTo(u, 4);
      expect(at[1]).toBeCloseTo(v, 4);
    }
  });
  it('draws the ray of another camera through the place where both see a point', () => {
    const [one, other] = [cameraOf(row), cameraOf({ ...row, id: 'c02', position_m: [1.5, 1.4, -3.5] })];
    const [u, v] = project(one, 0.3, 1.1, 0.2)!;
    const seen = project(other, 0.3, 1.1, 0.2)!;
    const path = rayAcross(one, u, v, other);
    const nearest = Math.min(...path.slice(1).map(([x, y], i) => apart(seen, path[i], [x, y])));
    expect(nearest).toBeLessThan(0.5);
    const miss = rayAcross(one, u, v + 60, other);
    expect(Math.min(...miss.slice(1).map((q, i) => apart(seen, miss[i], q)))).toBeGreaterThan(20);
  });
  it('tells how much of the volume blinds hide', () => {
    const c = cameraOf(row);
    expect(hiddenShare(c, [])).toBe(0);
    expect(hiddenShare(c, [{ camera: 'c01', x: 1030, y: 760, radius: 3000, share: 1, by_hand: false }])).toBe(1);
    const some = hiddenShare(c, [{ camera: 'c01', x: 1030, y: 760, radius: 200, share: 1, by_hand: false }]);
    expect(some).toBeGreaterThan(0.02);
    expect(some).toBeLessThan(0.6);
  });
});
