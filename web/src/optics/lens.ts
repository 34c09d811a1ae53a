/** A calibrated camera and the pictures it makes: the same model as the core's (core/optics/camera.py). Pixels, metres. */

export type Camera = {
  id: string;
  width: number;
  height: number;
  /** fx fy cx cy k1 k2 p1 p2 k3 */
  lens: number[];
  position: [number, number, number];
  /** World to camera, by rows; the camera looks along its own +Z, +Y down. */
  rotation: number[];
  /** Squared tangent of the angle to the picture's farthest corner; further out the lens polynomial may fold back. */
  widest: number;
};

type Row = {
  id: string;
  width: number;
  height: number;
  focal_px: number[];
  centre_px: number[];
  distortion: number[];
  position_m: number[];
  rotation_xyzw: number[];
};

/** A camera from its row in a calibration/1 document. */
export function cameraOf(r: Row): Camera {
  const [x, y, z, w] = r.rotation_xyzw;
  const lens = [...r.focal_px, ...r.centre_px, ...r.distortion];
  const corners = [[0, 0], [r.width, 0], [0, r.height], [r.width, r.height]].map(([u, v]) => direction(lens, u - 0.5, v - 0.5));
  return {
    id: r.id,
    width: r.width,
    height: r.height,
    lens,
    widest: Math.max(...corners.map(([a, b]) => a * a + b * b)),
    position: [r.position_m[0], r.position_m[1], r.position_m[2]],
    rotation: [
      1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w),
      2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w),
      2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y),
    ],
  };
}

/** Where a world point appears, or null when it is behind the camera or outside its picture. */
export function project(c: Camera, x: number, y: number, z: number): [number, number] | null {
  const [dx, dy, dz] = [x - c.position[0], y - c.position[1], z - c.position[2]];
  const r = c.rotation;
  const depth = r[6] * dx + r[7] * dy + r[8] * dz;
  if (depth < 0.05) return null;
  const a = (r[0] * dx + r[1] * dy + r[2] * dz) / depth;
  const b = (r[3] * dx + r[4] * dy + r[5] * dz) / depth;
  const [fx, fy, cx, cy, k1, k2, p1, p2, k3] = c.lens;
  const r2 = a * a + b * b;
  if (r2 > c.widest) return null;
  const radial = 1 + r2 * (k1 + r2 * (k2 + r2 * k3));
  const u = fx * (a * radial + 2 * p1 * a * b + p2 * (r2 + 2 * a * a)) + cx;
  const v = fy * (b * radial + p1 * (r2 + 2 * b * b) + 2 * p2 * a * b) + cy;
  return u > -0.5 && v > -0.5 && u < c.width - 0.5 && v < c.height - 0.5 ? [u, v] : null;
}

/** (X/Z, Y/Z) of a picture place, by fixed-point iteration. */
function direction(lens: number[], u: number, v: number): [number, number] {
  const [fx, fy, cx, cy, k1, k2, p1, p2, k3] = lens;
  const [a0, b0] = [(u - cx) / fx, (v - cy) / fy];
  let [a, b] = [a0, b0];
  for (let i = 0; i < 40; i += 1) {
    const r2 = a * a + b * b;
    const radial = 1 + r2 * (k1 + r2 * (k2 + r2 * k3));
    const na = (a0 - 2 * p1 * a * b - p2 * (r2 + 2 * a * a)) / radial;
    const nb = (b0 - p1 * (r2 + 2 * b * b) - 2 * p2 * a * b) / radial;
    if (Math.abs(na - a) + Math.abs(nb - b) < 1e-10) break;
    [a, b] = [na, nb];
  }
  return [a, b];
}

/** The world direction, of length 1, in which a picture place looks. */
export function ray(c: Camera, u: number, v: number): [number, number, number] {
  const [a, b] = direction(c.lens, u, v);
  const r = c.rotation;
  const d = [r[0] * a + r[3] * b + r[6], r[1] * a + r[4] * b + r[7], r[2] * a + r[5] * b + r[8]];
  const size = Math.hypot(d[0], d[1], d[2]);
  return [d[0] / size, d[1] / size, d[2] / size];
}

/** The ray through a place of camera `from`'s picture, as it runs through `into`'s picture: a line, bent by both lenses. */
export function rayAcross(from: Camera, u: number, v: number, into: Camera): [number, number][] {
  const d = ray(from, u, v);
  const out: [number, number][] = [];
  for (let m = 0.3; m < 14; m *= 1.02) {
    const at = project(into, from.position[0] + m * d[0], from.position[1] + m * d[1], from.position[2] + m * d[2]);
    if (at) out.push(at);
  }
  return out;
}

export type Blind = { camera: string; x: number; y: number; radius: number; share: number; by_hand: boolean };

/** The share of what a camera sees of the working volume (4 by 4 m, up to 2 m) that its blinds hide, 0 to 1. */
export function hiddenShare(c: Camera, blinds: Blind[]): number {
  let seen = 0;
  let hidden = 0;
  for (let x = -2; x <= 2; x += 0.25)
    for (let y = 0.1; y <= 2; y += 0.3)
      for (let z = -2; z <= 2; z += 0.25) {
        const at = project(c, x, y, z);
        if (!at) continue;
        seen += 1;
        if (blinds.some((b) => Math.hypot(b.x - at[0], b.y - at[1]) < b.radius)) hidden += 1;
      }
  return seen ? hidden / seen : 0;
}
