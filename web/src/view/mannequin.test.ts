import { describe, expect, it } from 'vitest';
import { restJoints, surfaceOf } from './mannequin';
import type { Body } from './pose';

const ROWS: [string, number, number[]][] = [
  ['hips', -1, [0, 0.93, 0]], ['spine', 0, [0, 0.11, -0.01]], ['chest', 1, [0, 0.12, 0]], ['upperChest', 2, [0, 0.12, 0]], ['neck', 3, [0, 0.15, 0]], ['head', 4, [0, 0.1, 0.02]],
  ['leftUpperArm', 3, [0.175, 0.12, 0]], ['leftLowerArm', 6, [0.28, 0, 0]], ['leftHand', 7, [0.27, 0, 0]],
  ['leftUpperLeg', 0, [0.09, 0, 0]], ['leftLowerLeg', 9, [0, -0.43, 0]], ['leftFoot', 10, [0, -0.42, -0.015]], ['leftToes', 11, [0, -0.06, 0.135]],
  ['rightUpperLeg', 0, [-0.09, 0, 0]], ['rightLowerLeg', 13, [0, -0.43, 0]], ['rightFoot', 14, [0, -0.42, -0.015]], ['rightToes', 15, [0, -0.06, 0.135]],
];
const body: Body = {
  bones: ROWS.map((r) => r[0]), parents: ROWS.map((r) => r[1]), offsets: new Float32Array(ROWS.flatMap((r) => r[2])),
  rotation: new Float32Array(0), root: new Float32Array(3), frames: 1, rate: 30, start: 0,
};

describe('the mannequin', () => {
  const surface = surfaceOf(body);

  it('is one closed surface that looks outward', () => {
    const edges = new Map<string, number>();
    const { triangles, positions, normals } = surface;
    let outward = 0;
    for (let t = 0; t < triangles.length; t += 3) {
      const [a, b, c] = triangles.slice(t, t + 3);
      for (const [x, y] of [[a, b], [b, c], [c, a]]) edges.set(`${x} ${y}`, (edges.get(`${x} ${y}`) ?? 0) + 1);
      const p = (v: number, i: number) => positions[v * 3 + i];
      const [u, w] = [[0, 1, 2].map((i) => p(b, i) - p(a, i)), [0, 1, 2].map((i) => p(c, i) - p(a, i))];
      const cross = [u[1] * w[2] - u[2] * w[1], u[2] * w[0] - u[0] * w[2], u[0] * w[1] - u[1] * w[0]];
      if (cross[0] * normals[a * 3] + cross[1] * normals[a * 3 + 1] + cross[2] * normals[a * 3 + 2] > 0) outward += 1;
    }
    const open = [...edges.keys()].filter((key) => !edges.has(key.split(' ').reverse().join(' ')));
    expect(open.length).toBe(0);
    expect(outward / (triangles.length / 3)).toBeGreaterThan(0.98);
    expect(positions.length / 3).toBeGreaterThan(1500);
    expect(positions.length / 3).toBeLessThan(9000);
  });

  it('is as wide as its markers say, on both sides', () => {
    const shin = (worn: number[][]) => {
      const { positions } = surfaceOf({ ...body, worn });
      let wide = 0;
      for (let v = 0; v < positions.length; v += 3) if (Math.abs(positions[v + 1] - 0.3) < 0.03 && positions[v] > 0) wide = Math.max(wide, positions[v] - 0.09);
      return wide;
    };
    const at = (x: number) => [[10, x, -0.17, -0.005], [10, -x, -0.19, -0.005]]; // of the left lower leg
    const usual = shin([]);
    expect(shin(at(usual + 0.009))).toBeCloseTo(usual, 2);
    expect(shin(at(1.3 * usual + 0.009)) / usual).toBeGreaterThan(1.2);
    expect(shin(at(0.8 * usual + 0.009)) / usual).toBeLessThan(0.9);
    expect(shin(at(1)) / usual).toBeLessThan(1.7); // a marker on a pole is no leg
    expect(shin(at(1.3 * usual).slice(0, 1))).toBeCloseTo(usual, 3); // one alone says nothing
  });

  it('stands on the floor, is as tall as its skeleton says and has a left arm only', () => {
    const at = (i: number) => surface.positions.filter((_, k) => k % 3 === i);
    expect(Math.min(...at(1))).toBeLessThan(0.02);
    expect(Math.max(...at(1))).toBeGreaterThan(1.66);
    expect(Math.max(...at(0))).toBeGreaterThan(0.72);
    expect(Math.min(...at(0))).toBeGreaterThan(-0.3);
  });

  it('hangs every vertex on bones near by, never on a leg of the other side', () => {
    const rest = restJoints(body);
    for (let v = 0; v < surface.positions.length / 3; v += 1) {
      const x = surface.positions[v * 3];
      let total = 0;
      for (let i = 0; i < 4; i += 1) {
        const weight = surface.weights[v * 4 + i];
        total += weight;
        const name = body.bones[surface.bones[v * 4 + i]];
        if (weight > 0.01 && x > 0.02) expect(name.startsWith('right')).toBe(false);
      }
      expect(total).toBeCloseTo(1, 4);
    }
    expect(rest[5 * 3 + 1]).toBeCloseTo(1.53, 5);
  });
});
