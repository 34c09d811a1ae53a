import * as THREE from 'three';
import { GLTFLoader, type GLTF } from 'three/examples/jsm/loaders/GLTFLoader.js';
import { sampleOf, type Track } from '../api/tracks';
import { morphsOf, type Morphs } from './morphs';
import { bodyAt, pose, poseBuffers, type BodyLevels, type PoseBuffers } from './pose';

/** How a file's numbers become ours: metres, Y up, facing +Z. */
export type Upright = { scale: number; rotation_xyzw: number[] };

/** A character's motion: its bones as a body, and the values of its face shapes. */
export type CharacterMotion = { name: string; levels: BodyLevels; shapes: { names: string[]; track: Track } | null };

/** What is drawn of a character: its file, how it stands, and which node of the file each bone is. */
export type CharacterFile = { bytes: ArrayBuffer; upright: Upright; nodes: Map<string, number> };

export const readCharacter = (bytes: ArrayBuffer): Promise<GLTF> => new GLTFLoader().parseAsync(bytes.slice(0), '');

/** A character's own skin, posed by its bones and its face shapes. The skinning itself happens on the graphics card. */
export class Skin {
  readonly object = new THREE.Group();
  private buffers: PoseBuffers = poseBuffers(0);
  private motion!: CharacterMotion;
  private readonly order: THREE.Object3D[] = [];
  private readonly byNumber = new Map<number, THREE.Object3D>();
  private readonly boneOf = new Map<THREE.Object3D, number>();
  private readonly morphs: Morphs[];
  private faces: { morphs: Morphs; at: number[] }[] = [];
  private readonly q = new THREE.Quaternion();
  private readonly world = new Map<THREE.Object3D, THREE.Quaternion>();
  private readonly at = new THREE.Vector3();

  constructor(gltf: GLTF, private readonly file: CharacterFile) {
    gltf.parser.associations.forEach((place, object) => {
      const number = (place as { nodes?: number } | undefined)?.nodes;
      if (number !== undefined && object instanceof THREE.Object3D) this.byNumber.set(number, object);
    });
    this.object.quaternion.fromArray(file.upright.rotation_xyzw);
    this.object.scale.setScalar(file.upright.scale);
    this.object.add(gltf.scene);
    gltf.scene.traverse((o) => {
      o.frustumCulled = false; // a skin's box is that of its rest pose
      o.raycast = () => null;
      this.order.push(o);
      this.world.set(o, new THREE.Quaternion());
    });
    this.morphs = morphsOf(gltf.scene);
  }

  /** Follow a motion from now on: a changed map gives another one of the same character. */
  follow(motion: CharacterMotion) {
    if (motion === this.motion) return;
    this.motion = motion;
    const { bones } = motion.levels.whole;
    this.buffers = poseBuffers(bones.length);
    this.boneOf.clear();
    bones.forEach((name, b) => {
      const bone = this.byNumber.get(this.file.nodes.get(name) ?? -1);
      if (bone) this.boneOf.set(bone, b);
    });
    const names = motion.shapes?.names ?? [];
    this.faces = this.morphs.map((morphs) => ({ morphs, at: names.map((n) => morphs.mesh.morphTargetDictionary?.[n] ?? -1) }));
  }

  /** Put every bone and shape where it is at a moment. */
  place(time: number) {
    const body = bodyAt(this.motion.levels, time);
    pose(body, sampleOf(body, time), this.buffers);
    const { joints, world } = this.buffers;
    // from the root outward: rotations are of the world, nodes want them in their parents
    for (const node of this.order) {
      const above = node.parent && node.parent !== this.object ? this.world.get(node.parent)! : this.object.quaternion;
      const own = this.world.get(node)!;
      const b = this.boneOf.get(node);
      if (b === undefined) {
        own.multiplyQuaternions(above, node.quaternion);
        continue;
      }
      own.fromArray(world, b * 4);
      node.quaternion.copy(this.q.copy(above).invert()).multiply(own);
      if (b !== 0) continue;
      node.parent?.updateWorldMatrix(true, false);
      this.at.fromArray(joints, 0);
      if (this.object.parent) this.at.applyMatrix4(this.object.parent.matrixWorld); // the whole character may stand aside
      node.position.copy(node.parent ? node.parent.worldToLocal(this.at) : this.at);
    }
    const shapes = this.motion.shapes;
    if (!shapes || !this.faces.length) return;
    const { track } = shapes;
    const frame = Math.min(track.samples - 1, Math.max(0, sampleOf(track, time)));
    for (const { morphs, at } of this.faces) {
      for (let i = 0; i < at.length; i += 1) {
        const value = track.values[frame * track.width + i];
        if (at[i] >= 0 && !Number.isNaN(value)) morphs.mesh.morphTargetInfluences![at[i]] = value;
      }
      morphs.apply();
    }
  }

  dispose() {
    this.object.traverse((o) => {
      const mesh = o as THREE.Mesh;
      if (!mesh.isMesh) return;
      mesh.geometry.dispose();
      for (const material of Array.isArray(mesh.material) ? mesh.material : [mesh.material]) material.dispose();
      (mesh as THREE.SkinnedMesh).skeleton?.dispose();
    });
  }
}
