import * as THREE from 'three';
import type { Body } from './pose';

/**
 * A smooth body about a skeleton: tapered capsules along the bones in T-pose, melted into one surface, and that surface
 * hung on the bones. Round figures for an adult of 1.75 m, scaled with the skeleton, and as wide where markers sit as these say.
 * Fingers are drawn as bones.
 */

const USUAL_LEG = 0.81; // from hip to ankle of an adult of 1.75 m
const CELL = 0.024;
const MELT = 0.05; // over so much two capsules flow into each other
const HOLD = 0.016; // how fast the hold of a bone falls off with distance from its capsule
const HELD_BY = 4;

/** from and to: joints, or a joint with an offset; radii at both; flat: how much thinner it is from front to back. */
type Capsule = { bone: string; from: At; to: At; radii: [number, number]; flat?: number };
type At = string | [string, number, number, number];

const side = (s: 'left' | 'right'): Capsule[] => {
  const out = s === 'left' ? 1 : -1;
  return [
    { bone: `${s}Shoulder`, from: `${s}Shoulder`, to: `${s}UpperArm`, radii: [0.06, 0.058], flat: 1.2 },
    { bone: `${s}UpperArm`, from: `${s}UpperArm`, to: `${s}LowerArm`, radii: [0.052, 0.039] },
    { bone: `${s}LowerArm`, from: `${s}LowerArm`, to: `${s}Hand`, radii: [0.041, 0.026] },
    { bone: `${s}Hand`, from: `${s}Hand`, to: [`${s}Hand`, out * 0.075, 0, 0.004], radii: [0.024, 0.03] },
    { bone: `${s}UpperLeg`, from: `${s}UpperLeg`, to: `${s}LowerLeg`, radii: [0.085, 0.053] },
    { bone: `${s}LowerLeg`, from: `${s}LowerLeg`, to: `${s}Foot`, radii: [0.055, 0.037] },
    { bone: `${s}LowerLeg`, from: [`${s}LowerLeg`, 0, -0.07, -0.018], to: [`${s}LowerLeg`, 0, -0.16, -0.018], radii: [0.046, 0.04] },
    { bone: `${s}Foot`, from: [`${s}Foot`, 0, -0.045, -0.03], to: `${s}Toes`, radii: [0.036, 0.034] },
    { bone: `${s}Toes`, from: `${s}Toes`, to: [`${s}Toes`, 0, -0.004, 0.055], radii: [0.033, 0.024] },
  ];
};

const CAPSULES: Capsule[] = [
  { bone: 'hips', from: ['leftUpperLeg', -0.02, 0.01, 0], to: ['rightUpperLeg', 0.02, 0.01, 0], radii: [0.1, 0.1], flat: 1.15 },
  { bone: 'hips', from: ['hips', 0, 0.03, 0], to: 'spine', radii: [0.128, 0.12], flat: 1.3 },
  { bone: 'spine', from: 'spine', to: 'chest', radii: [0.12, 0.126], flat: 1.3 },
  { bone: 'chest', from: 'chest', to: 'upperChest', radii: [0.126, 0.136], flat: 1.27 },
  { bone: 'upperChest', from: 'upperChest', to: ['neck', 0, -0.06, 0], radii: [0.136, 0.08], flat: 1.3 },
  { bone: 'neck', from: ['neck', 0, -0.03, 0], to: 'head', radii: [0.055, 0.05] },
  { bone: 'head', from: ['head', 0, 0.055, 0.02], to: ['head', 0, 0.12, 0.008], radii: [0.076, 0.09] },
  { bone: 'head', from: ['head', 0, 0.02, 0.045], to: ['head', 0, 0.05, 0.05], radii: [0.038, 0.05] },
  ...side('left'),
  ...side('right'),
];

/** A capsule in numbers: bone, both ends, both radii, flatness. */
type Solid = { bone: number; a: Float64Array; d: Float64Array; length2: number; r0: number; r1: number; flat: number; sign: number };

/** Joints of the T-pose, metres, as (x, y, z) one after the other. */
export function restJoints(body: Pick<Body, 'parents' | 'offsets'>): Float32Array {
  const out = Float32Array.from(body.offsets);
  body.parents.forEach((p, b) => {
    for (let i = 0; i < 3; i += 1) out[b * 3 + i] = (p >= 0 ? out[p * 3 + i] : 0) + body.offsets[b * 3 + i];
  });
  return out;
}

const MARKER_M = 0.009; // from a marker's middle to the skin
const FEWEST = 2; // markers that say how wide a part is
const [NARROWEST, WIDEST] = [0.75, 1.5];
const TRUNK = ['hips', 'spine', 'chest', 'upperChest'];
const core = (bone: string) => bone.replace(/^(left|right)/, '');
const median = (values: number[]) => values.sort((a, b) => a - b)[values.length >> 1];

/** How wide each part is against the usual figure, {bone without its side: factor}, by the markers that sit on it. */
function widths(body: Body, rest: Float32Array, usual: Solid[], melt: number): Map<string, number> {
  const said = new Map<string, number[]>();
  for (const [b, ...offset] of body.worn ?? []) {
    const own = usual.filter((s) => s.bone === b);
    if (!own.length) continue;
    const [x, y, z] = offset.map((v, i) => rest[b * 3 + i] + v);
    const near = own.reduce((a, s) => (distance(s, x, y, z) < distance(a, x, y, z) ? s : a));
    const radius = near.r0 + along(near, x, y, z) * (near.r1 - near.r0);
    const part = TRUNK.includes(body.bones[b]) ? 'trunk' : core(body.bones[b]);
    said.set(part, [...(said.get(part) ?? []), 1 + (melted(usual, melt, x, y, z) - MARKER_M) / radius]);
  }
  const out = new Map<string, number>();
  for (const [part, factors] of said)
    if (factors.length >= FEWEST)
      for (const bone of part === 'trunk' ? TRUNK : [part]) out.set(bone, Math.min(WIDEST, Math.max(NARROWEST, median(factors))));
  return out;
}

function solids(body: Body, rest: Float32Array, scale: number): Solid[] {
  const index = new Map(body.bones.map((name, b) => [name, b]));
  const at = (where: At): Float64Array | null => {
    const [name, ...offset] = typeof where === 'string' ? [where, 0, 0, 0] : where;
    const b = index.get(name as string);
    return b === undefined ? null : Float64Array.from([0, 1, 2], (i) => rest[b * 3 + i] + scale * (offset[i] as number));
  };
  return CAPSULES.flatMap(({ bone, from, to, radii, flat = 1 }) => {
    const [b, a, e] = [index.get(bone), at(from), at(to)];
    if (b === undefined || !a || !e) return [];
    const d = e.map((v, i) => v - a[i]);
    const limb = /UpperLeg|LowerLeg|Foot|Toes|Arm|Hand|Shoulder/.test(bone);
    const sign = !limb ? 0 : bone.startsWith('left') ? 1 : -1;
    return [{ bone: b, a, d, length2: Math.max(d[0] ** 2 + d[1] ** 2 + d[2] ** 2, 1e-9), r0: scale * radii[0], r1: scale * radii[1], flat, sign }];
  });
}

/** How far along a capsule a point lies, 0 to 1. */
function along(s: Solid, x: number, y: number, z: number): number {
  return Math.min(1, Math.max(0, ((x - s.a[0]) * s.d[0] + (y - s.a[1]) * s.d[1] + (z - s.a[2]) * s.d[2]) / s.length2));
}

/** Signed distance from one capsule, negative inside. */
function distance(s: Solid, x: number, y: number, z: number): number {
  const [px, py, pz] = [x - s.a[0], y - s.a[1], z - s.a[2]];
  const t = along(s, x, y, z);
  const [qx, qy, qz] = [px - t * s.d[0], py - t * s.d[1], (pz - t * s.d[2]) * s.flat];
  return Math.sqrt(qx * qx + qy * qy + qz * qz) - (s.r0 + t * (s.r1 - s.r0));
}

function melted(all: Solid[], melt: number, x: number, y: number, z: number): number {
  let out = 1;
  for (const s of all) {
    const d = distance(s, x, y, z);
    const h = Math.max(melt - Math.abs(out - d), 0) / melt;
    out = Math.min(out, d) - (h * h * melt) / 4;
  }
  return out;
}

export type Surface = { positions: Float32Array; normals: Float32Array; triangles: Uint32Array; bones: Uint16Array; weights: Float32Array };

/** The surface about a body in T-pose: a vertex in every cell that it crosses, joined where cells meet. */
export function surfaceOf(body: Body): Surface {
  const rest = restJoints(body);
  const legs = ['leftUpperLeg', 'leftLowerLeg', 'leftFoot'].map((n) => body.bones.indexOf(n));
  const length = legs.every((b) => b >= 0) ? Math.abs(rest[legs[0] * 3 + 1] - rest[legs[2] * 3 + 1]) : USUAL_LEG;
  const scale = Math.min(2, Math.max(0.3, length / USUAL_LEG));
  const usual = solids(body, rest, scale);
  const [cell, melt] = [CELL * scale, MELT * scale];
  const wide = widths(body, rest, usual, melt);
  const all = usual.map((s) => { const f = wide.get(core(body.bones[s.bone])) ?? 1; return { ...s, r0: f * s.r0, r1: f * s.r1 }; });
  const low = [0, 1, 2].map((i) => Math.min(...all.map((s) => Math.min(s.a[i], s.a[i] + s.d[i]) - Math.max(s.r0, s.r1))) - 2 * cell);
  const high = [0, 1, 2].map((i) => Math.max(...all.map((s) => Math.max(s.a[i], s.a[i] + s.d[i]) + Math.max(s.r0, s.r1))) + 2 * cell);
  const n = [0, 1, 2].map((i) => Math.ceil((high[i] - low[i]) / cell) + 1);
  const place = (i: number, j: number, k: number) => (k * n[1] + j) * n[0] + i;
  const field = new Float32Array(n[0] * n[1] * n[2]);
  for (let k = 0; k < n[2]; k += 1)
    for (let j = 0; j < n[1]; j += 1)
      for (let i = 0; i < n[0]; i += 1) field[place(i, j, k)] = melted(all, melt, low[0] + i * cell, low[1] + j * cell, low[2] + k * cell);

  const vertex = new Int32Array(field.length).fill(-1);
  const positions: number[] = [];
  const corners = [0, 1, 2, 3, 4, 5, 6, 7].map((c) => [c & 1, (c >> 1) & 1, c >> 2]);
  const edges = corners.flatMap((a, x) => corners.flatMap((b, y) => (x < y && a.filter((v, i) => v !== b[i]).length === 1 ? [[x, y]] : [])));
  for (let k = 0; k < n[2] - 1; k += 1)
    for (let j = 0; j < n[1] - 1; j += 1)
      for (let i = 0; i < n[0] - 1; i += 1) {
        const values = corners.map(([a, b, c]) => field[place(i + a, j + b, k + c)]);
        let count = 0;
        const sum = [0, 0, 0];
        for (const [x, y] of edges) {
          if (values[x] < 0 === values[y] < 0) continue;
          const f = values[x] / (values[x] - values[y]);
          for (let q = 0; q < 3; q += 1) sum[q] += corners[x][q] + f * (corners[y][q] - corners[x][q]);
          count += 1;
        }
        if (count === 0) continue;
        vertex[place(i, j, k)] = positions.length / 3;
        positions.push(low[0] + (i + sum[0] / count) * cell, low[1] + (j + sum[1] / count) * cell, low[2] + (k + sum[2] / count) * cell);
      }
  const triangles: number[] = [];
  const quad = (inside: boolean, a: number, b: number, c: number, d: number) => {
    if (Math.min(a, b, c, d) < 0) return;
    triangles.push(...(inside ? [a, b, c, a, c, d] : [a, c, b, a, d, c]));
  };
  for (let k = 1; k < n[2] - 1; k += 1)
    for (let j = 1; j < n[1] - 1; j += 1)
      for (let i = 1; i < n[0] - 1; i += 1) {
        const here = field[place(i, j, k)] < 0;
        if (here !== field[place(i + 1, j, k)] < 0) quad(here, vertex[place(i, j - 1, k - 1)], vertex[place(i, j, k - 1)], vertex[place(i, j, k)], vertex[place(i, j - 1, k)]);
        if (here !== field[place(i, j + 1, k)] < 0) quad(here, vertex[place(i - 1, j, k - 1)], vertex[place(i - 1, j, k)], vertex[place(i, j, k)], vertex[place(i, j, k - 1)]);
        if (here !== field[place(i, j, k + 1)] < 0) quad(here, vertex[place(i - 1, j - 1, k)], vertex[place(i, j - 1, k)], vertex[place(i, j, k)], vertex[place(i - 1, j, k)]);
      }
  return { ...held(all, melt, scale, Float32Array.from(positions)), triangles: Uint32Array.from(triangles) };
}

/** Normals, and by which bones each vertex is held: those whose capsules are nearest, none of the other side's limbs. */
function held(all: Solid[], melt: number, scale: number, positions: Float32Array): Omit<Surface, 'triangles'> {
  const count = positions.length / 3;
  const normals = new Float32Array(positions.length);
  const bones = new Uint16Array(count * HELD_BY);
  const weights = new Float32Array(count * HELD_BY);
  const normal = new THREE.Vector3();
  const step = 0.004;
  for (let v = 0; v < count; v += 1) {
    const [x, y, z] = [positions[v * 3], positions[v * 3 + 1], positions[v * 3 + 2]];
    const f = (a: number, b: number, c: number) => melted(all, melt, x + a, y + b, z + c);
    normal.set(f(step, 0, 0) - f(-step, 0, 0), f(0, step, 0) - f(0, -step, 0), f(0, 0, step) - f(0, 0, -step)).normalize();
    normal.toArray(normals, v * 3);
    const hold = new Map<number, number>();
    let nearest = Infinity;
    for (const s of all) nearest = Math.min(nearest, s.sign * x < -0.002 ? Infinity : distance(s, x, y, z));
    for (const s of all) {
      if (s.sign * x < -0.002) continue;
      const w = Math.exp(-(distance(s, x, y, z) - nearest) / (HOLD * scale));
      hold.set(s.bone, Math.max(hold.get(s.bone) ?? 0, w));
    }
    const best = [...hold].sort((a, b) => b[1] - a[1]).slice(0, HELD_BY);
    const total = best.reduce((sum, [, w]) => sum + w, 0);
    best.forEach(([b, w], i) => {
      bones[v * HELD_BY + i] = b;
      weights[v * HELD_BY + i] = w / total;
    });
  }
  return { positions, normals, bones, weights };
}

const kept = new Map<string, Surface>();

/** The mannequin of a body, to be posed bone by bone. Its surface is made once for each skeleton. */
export class Mannequin {
  readonly mesh: THREE.SkinnedMesh;
  private readonly bones: THREE.Bone[];
  private readonly one = new THREE.Vector3(1, 1, 1);
  private readonly at = new THREE.Vector3();
  private readonly q = new THREE.Quaternion();

  constructor(body: Body, colours: { left: string; right: string; middle: string }) {
    const key = JSON.stringify([body.bones, [...body.offsets].map((v) => Math.round(v * 1000)), body.worn]);
    const surface = kept.get(key) ?? surfaceOf(body);
    kept.set(key, surface);
    const rest = restJoints(body);
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute('position', new THREE.BufferAttribute(surface.positions, 3));
    geometry.setAttribute('normal', new THREE.BufferAttribute(surface.normals, 3));
    geometry.setAttribute('skinIndex', new THREE.BufferAttribute(surface.bones, HELD_BY));
    geometry.setAttribute('skinWeight', new THREE.BufferAttribute(surface.weights, HELD_BY));
    geometry.setIndex(new THREE.BufferAttribute(surface.triangles, 1));
    geometry.setAttribute('color', new THREE.BufferAttribute(tinted(surface, body.bones, colours), 3));
    this.mesh = new THREE.SkinnedMesh(geometry, new THREE.MeshLambertMaterial({ vertexColors: true }));
    this.mesh.frustumCulled = false;
    this.mesh.raycast = () => null;
    this.mesh.matrixAutoUpdate = false;
    this.bones = body.bones.map(() => new THREE.Bone());
    const inverses = body.bones.map((_, b) => new THREE.Matrix4().makeTranslation(-rest[b * 3], -rest[b * 3 + 1], -rest[b * 3 + 2]));
    this.mesh.bind(new THREE.Skeleton(this.bones, inverses), new THREE.Matrix4());
    this.mesh.bindMode = THREE.DetachedBindMode;
  }

  /** Put it into a pose: joints and rotations of the world, bone by bone. */
  place(joints: Float32Array, world: Float32Array) {
    for (let b = 0; b < this.bones.length; b += 1)
      this.bones[b].matrixWorld.compose(this.at.fromArray(joints, b * 3), this.q.fromArray(world, b * 4), this.one);
  }

  dispose() {
    this.mesh.geometry.dispose();
    (this.mesh.material as THREE.Material).dispose();
    this.mesh.skeleton.dispose();
  }
}

/** Colours by side: what a left or right limb holds takes on its colour. */
function tinted(surface: Surface, names: string[], colours: { left: string; right: string; middle: string }): Float32Array {
  const middle = new THREE.Color(colours.middle);
  const [left, right] = [new THREE.Color(colours.left), new THREE.Color(colours.right)];
  const out = new Float32Array(surface.positions.length);
  const colour = new THREE.Color();
  for (let v = 0; v < out.length / 3; v += 1) {
    const share = { left: 0, right: 0 };
    for (let i = 0; i < HELD_BY; i += 1) {
      const name = names[surface.bones[v * HELD_BY + i]];
      if (name.startsWith('left')) share.left += surface.weights[v * HELD_BY + i];
      else if (name.startsWith('right')) share.right += surface.weights[v * HELD_BY + i];
    }
    colour.copy(middle).lerp(left, 0.75 * share.left).lerp(right, 0.75 * share.right).toArray(out, v * 3);
  }
  return out;
}
