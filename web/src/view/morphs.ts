import * as THREE from 'three';

const STILL = 1e-7; // metres and shares that nobody sees

type Sparse = { vertices: Uint32Array; deltas: Float32Array };

/**
 * The face shapes of a mesh, added up here and not by the graphics card: a shape moves a few points of a head, the card would
 * look at every point of the body once for each of fifty shapes.
 */
export class Morphs {
  private readonly parts: { attribute: THREE.BufferAttribute; base: Float32Array; shapes: Sparse[] }[] = [];
  private readonly shown: Float64Array;

  /** Takes the shapes out of the mesh's geometry; its influences stay, and say what is shown. */
  constructor(readonly mesh: THREE.Mesh) {
    const { geometry } = mesh;
    for (const name of ['position', 'normal'] as const) {
      const targets = geometry.morphAttributes[name];
      const attribute = geometry.getAttribute(name) as THREE.BufferAttribute | undefined;
      if (!targets || !attribute || attribute.itemSize !== 3) continue;
      const values = new Float32Array(attribute.count * 3);
      for (let v = 0; v < attribute.count; v += 1) values.set([attribute.getX(v), attribute.getY(v), attribute.getZ(v)], v * 3);
      const own = new THREE.BufferAttribute(values, 3).setUsage(THREE.DynamicDrawUsage);
      geometry.setAttribute(name, own);
      const base = values.slice();
      this.parts.push({ attribute: own, base, shapes: targets.map((t) => sparse(t, geometry.morphTargetsRelative ? null : base)) });
    }
    geometry.morphAttributes = {};
    this.shown = new Float64Array(mesh.morphTargetInfluences?.length ?? 0);
    this.apply();
  }

  /** Show what the influences of the mesh say now. */
  apply() {
    const weights = this.mesh.morphTargetInfluences ?? [];
    let same = true;
    for (let s = 0; s < this.shown.length; s += 1) same &&= Math.abs(weights[s] - this.shown[s]) < STILL;
    if (same) return;
    for (const { attribute, base, shapes } of this.parts) {
      const values = attribute.array as Float32Array;
      values.set(base);
      shapes.forEach(({ vertices, deltas }, s) => {
        const weight = weights[s] ?? 0;
        if (Math.abs(weight) < STILL) return;
        for (let i = 0; i < vertices.length; i += 1) {
          const at = vertices[i] * 3;
          values[at] += weight * deltas[i * 3];
          values[at + 1] += weight * deltas[i * 3 + 1];
          values[at + 2] += weight * deltas[i * 3 + 2];
        }
      });
      attribute.needsUpdate = true;
    }
    for (let s = 0; s < this.shown.length; s += 1) this.shown[s] = weights[s];
  }
}

/** The points that a shape moves, and by how much; base: where they are at rest, for shapes that are not relative. */
function sparse(target: THREE.BufferAttribute | THREE.InterleavedBufferAttribute, base: Float32Array | null): Sparse {
  const vertices: number[] = [];
  const deltas: number[] = [];
  for (let v = 0; v < target.count; v += 1) {
    const x = target.getX(v) - (base ? base[v * 3] : 0);
    const y = target.getY(v) - (base ? base[v * 3 + 1] : 0);
    const z = target.getZ(v) - (base ? base[v * 3 + 2] : 0);
    if (Math.abs(x) + Math.abs(y) + Math.abs(z) < STILL) continue;
    vertices.push(v);
    deltas.push(x, y, z);
  }
  return { vertices: Uint32Array.from(vertices), deltas: Float32Array.from(deltas) };
}

/** The Morphs of every mesh of an object that has face shapes. */
export function morphsOf(object: THREE.Object3D): Morphs[] {
  const out: Morphs[] = [];
  object.traverse((o) => {
    const mesh = o as THREE.Mesh;
    if (mesh.isMesh && mesh.geometry.morphAttributes.position?.length) out.push(new Morphs(mesh));
  });
  return out;
}
