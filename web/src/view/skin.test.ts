import * as THREE from 'three';
import type { GLTF } from 'three/examples/jsm/loaders/GLTFLoader.js';
import { describe, expect, it } from 'vitest';
import { Skin, type CharacterMotion } from './skin';

const half = Math.SQRT1_2;

/** A file in centimetres with Z up: an armature node, hips above it, an arm; nodes 0, 1, 2. */
function file(): GLTF {
  const [scene, armature, hips, arm] = [new THREE.Group(), new THREE.Group(), new THREE.Bone(), new THREE.Bone()];
  hips.position.set(0, 0, 100);
  hips.quaternion.set(half, 0, 0, half); // a roll of its own at rest
  arm.position.set(20, 0, 0);
  scene.add(armature.add(hips.add(arm)));
  const associations = new Map<object, object>([[armature, { nodes: 0 }], [hips, { nodes: 1 }], [arm, { nodes: 2 }]]);
  return { scene, parser: { associations } } as unknown as GLTF;
}

const upright = { scale: 0.01, rotation_xyzw: [-half, 0, 0, half] };
const nodes = new Map([['pelvis', 1], ['arm', 2]]);

function motion(rotation: number[], root: number[]): CharacterMotion {
  const whole = {
    bones: ['pelvis', 'arm'], parents: [-1, 0], offsets: new Float32Array([0, 0, 0, 0.2, 0, 0]),
    rotation: new Float32Array(rotation), root: new Float32Array(root), frames: 1, rate: 30, start: 0,
  };
  return { name: 'Gull', levels: { performer: '', whole, near: null }, shapes: null };
}

describe('a skin', () => {
  it('has its bones where the motion says, whatever the unit and the axes of its file', () => {
    const skin = new Skin(file(), { bytes: new ArrayBuffer(0), upright, nodes });
    skin.follow(motion([0, 0, 0, 1, 0, 0, half, half], [0.5, 0.9, 0.25]));
    const aside = new THREE.Group();
    aside.position.x = 1;
    aside.add(skin.object);
    aside.updateMatrixWorld(true);
    skin.place(0);
    aside.updateMatrixWorld(true);
    const bones: THREE.Bone[] = [];
    skin.object.traverse((o) => o instanceof THREE.Bone && bones.push(o));
    const at = bones.map((b) => b.getWorldPosition(new THREE.Vector3()));
    expect(at[0].distanceTo(new THREE.Vector3(1.5, 0.9, 0.25))).toBeLessThan(1e-6);
    expect(at[1].distanceTo(new THREE.Vector3(1.7, 0.9, 0.25))).toBeLessThan(1e-6);
    const turned = bones[1].getWorldQuaternion(new THREE.Quaternion());
    expect(turned.angleTo(new THREE.Quaternion(0, 0, half, half))).toBeLessThan(1e-6);
  });

  it('follows another motion of other bones', () => {
    const skin = new Skin(file(), { bytes: new ArrayBuffer(0), upright, nodes });
    skin.follow(motion([0, 0, 0, 1, 0, 0, 0, 1], [0, 1, 0]));
    skin.place(0);
    const other = motion([0, half, 0, half], [0, 2, 0]);
    Object.assign(other.levels.whole, { bones: ['pelvis'], parents: [-1], offsets: new Float32Array(3) });
    skin.follow(other);
    skin.place(0);
    skin.object.updateMatrixWorld(true);
    const hips = skin.object.getObjectByProperty('type', 'Bone')!;
    expect(hips.getWorldPosition(new THREE.Vector3()).y).toBeCloseTo(2, 6);
  });
});
