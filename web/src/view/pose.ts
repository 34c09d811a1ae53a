import { sampleOf, type Levels } from '../api/tracks';

/** Forward kinematics over typed arrays: world joints of one frame, nothing allocated. */
export type Body = {
  bones: string[];
  parents: number[];
  offsets: Float32Array;
  /** Markers on the body: the bone's number and the offset from its joint in T-pose, metres. */
  worn?: number[][];
  rotation: Float32Array;
  root: Float32Array;
  frames: number;
  /** Frame i lies at start + i / rate seconds of the take. */
  rate: number;
  start: number;
};

/** A performer's motion: the whole of it, thinned where it is long, and then every frame near by; and their face, where it was recorded. */
export type BodyLevels = { performer: string; whole: Body; near: Body | null; face?: FaceTrack | null };

/** Values of face shapes by name, 0 to 1. */
export type FaceTrack = { names: string[]; levels: Levels };

/** The finest motion that there is of a moment. */
export function bodyAt(levels: BodyLevels, time: number): Body {
  const { near, whole } = levels;
  return near !== null && time >= near.start && time <= near.start + (near.frames - 1) / near.rate ? near : whole;
}

/** Its frame at a moment; the first or the last one where the moment is outside. */
export function frameAt(body: Body, time: number): number {
  return Math.min(body.frames - 1, Math.max(0, sampleOf(body, time)));
}

/** A prop as the view draws it: its markers about its origin, and its pose track (position and rotation). */
export type PropView = { name: string; offsets: number[][]; pose: Levels; aside?: number };

export type PoseBuffers = { joints: Float32Array; world: Float32Array };

export function poseBuffers(bones: number): PoseBuffers {
  return { joints: new Float32Array(bones * 3), world: new Float32Array(bones * 4) };
}

export function pose(body: Body, frame: number, out: PoseBuffers): void {
  const { joints, world } = out;
  const bones = body.parents.length;
  const at = Math.min(Math.max(frame, 0), body.frames - 1);
  for (let b = 0; b < bones; b += 1) {
    const q = (at * bones + b) * 4;
    const lx = body.rotation[q];
    const ly = body.rotation[q + 1];
    const lz = body.rotation[q + 2];
    const lw = body.rotation[q + 3];
    const p = body.parents[b];
    if (p < 0) {
      for (let i = 0; i < 3; i += 1) joints[i] = body.root[at * 3 + i];
      world[0] = lx;
      world[1] = ly;
      world[2] = lz;
      world[3] = lw;
      continue;
    }
    const px = world[p * 4];
    const py = world[p * 4 + 1];
    const pz = world[p * 4 + 2];
    const pw = world[p * 4 + 3];
    const ox = body.offsets[b * 3];
    const oy = body.offsets[b * 3 + 1];
    const oz = body.offsets[b * 3 + 2];
    const tx = 2 * (py * oz - pz * oy);
    const ty = 2 * (pz * ox - px * oz);
    const tz = 2 * (px * oy - py * ox);
    joints[b * 3] = joints[p * 3] + ox + pw * tx + py * tz - pz * ty;
    joints[b * 3 + 1] = joints[p * 3 + 1] + oy + pw * ty + pz * tx - px * tz;
    joints[b * 3 + 2] = joints[p * 3 + 2] + oz + pw * tz + px * ty - py * tx;
    world[b * 4] = pw * lx + px * lw + py * lz - pz * ly;
    world[b * 4 + 1] = pw * ly - px * lz + py * lw + pz * lx;
    world[b * 4 + 2] = pw * lz + px * ly - py * lx + pz * lw;
    world[b * 4 + 3] = pw * lw - px * lx - py * ly - pz * lz;
  }
}
