import type { DefaultTheme } from 'styled-components';
import * as THREE from 'three';
import { levelFor, nearestSample, sampleOf } from '../api/tracks';
import { Mannequin } from './mannequin';
import { bodyAt, pose, poseBuffers, type BodyLevels, type PoseBuffers } from './pose';
import { segmentsOf, type Segment } from './segments';
import { SimpleFace } from './simple-face';

const WHOLE = ['hips', 'spine', 'head', 'leftUpperArm', 'rightUpperArm', 'leftFoot', 'rightFoot'];
const FINGER = /Thumb|Index|Middle|Ring|Little/;
const HEAD = new THREE.Vector3(0, 0.11, 0);
const HEAD_SHAPE = new THREE.SphereGeometry(1, 18, 14);
export const UP = new THREE.Vector3(0, 1, 0);

/** A colour of lines as one of surfaces: dark lines on paper would make a body without light and shade. */
function bodily(colour: string): string {
  const { h, s, l } = new THREE.Color(colour).getHSL({ h: 0, s: 0, l: 0 });
  return `#${new THREE.Color().setHSL(h, s * 0.8, Math.max(l, 0.62)).getHexString()}`;
}

/** One body in the scene: what is drawn of it, with volume or as sticks, and room for its pose. */
export class Figure {
  readonly segments: Segment[];
  readonly head: THREE.Mesh;
  readonly mannequin: Mannequin | null;
  readonly face: SimpleFace | null;
  private readonly headBone: number;
  private readonly shapes = new Map<string, number>();
  private readonly shape = (name: string) => this.shapes.get(name) ?? 0;
  private readonly buffers: PoseBuffers;
  private readonly a = new THREE.Vector3();
  private readonly d = new THREE.Vector3();
  private readonly unit = new THREE.Vector3();
  private readonly q = new THREE.Quaternion();
  private readonly s = new THREE.Vector3();
  private readonly m = new THREE.Matrix4();

  constructor(readonly levels: BodyLevels, theme: DefaultTheme, volume: boolean) {
    const { bones, parents } = levels.whole;
    const whole = volume && WHOLE.every((name) => bones.includes(name)); // half a skeleton has no figure
    const skin = { left: bodily(theme.left), right: bodily(theme.right), middle: bodily(theme.bone) };
    this.mannequin = whole ? new Mannequin(levels.whole, skin) : null;
    this.face = whole && levels.face ? new SimpleFace({ skin: skin.middle, dark: '#1c1922', light: '#f4f1ea' }) : null;
    this.segments = segmentsOf(levels.whole).filter((s) => !whole || FINGER.test(bones[s.bone]));
    this.buffers = poseBuffers(parents.length);
    this.headBone = bones.indexOf('head');
    this.head = new THREE.Mesh(HEAD_SHAPE, new THREE.MeshLambertMaterial({ color: theme.bone, transparent: true, opacity: 0.55 }));
    this.head.scale.set(0.075, 0.11, 0.09);
    this.head.raycast = () => null;
    this.head.visible = this.headBone >= 0 && !whole;
  }

  /** All of it but its segments. */
  get objects(): THREE.Object3D[] {
    return [this.mannequin?.mesh, this.face?.object, this.head].filter((o) => o !== undefined);
  }

  dispose() {
    (this.head.material as THREE.Material).dispose();
    this.mannequin?.dispose();
    this.face?.dispose();
  }

  /** The face of a moment; where it was lost it stays as it was. */
  private express(time: number) {
    const { names, levels } = this.levels.face!;
    const track = levelFor(levels, time, time);
    const at = nearestSample(track, time) * track.width;
    names.forEach((name, i) => {
      const value = track.values[at + i];
      if (!Number.isNaN(value)) this.shapes.set(name, value);
    });
    this.face!.show(this.shape);
  }

  /** Pose it as at a moment, and put its segments, where it has any, into instances from `first` on. */
  place(time: number, mesh: THREE.InstancedMesh | null, first: number) {
    const body = bodyAt(this.levels, time);
    pose(body, sampleOf(body, time), this.buffers);
    const { joints, world } = this.buffers;
    const { a, d, unit, q, s, m } = this;
    this.mannequin?.place(joints, world);
    for (let i = 0; mesh && i < this.segments.length; i += 1) {
      const segment = this.segments[i];
      a.fromArray(joints, segment.parent * 3);
      d.fromArray(joints, segment.bone * 3).sub(a);
      const length = d.length();
      if (length < 1e-6) continue;
      q.setFromUnitVectors(UP, unit.copy(d).divideScalar(length));
      s.set(segment.radius, length * (segment.to - segment.from), segment.radius);
      m.compose(a.addScaledVector(d, (segment.from + segment.to) / 2), q, s);
      mesh.setMatrixAt(first + i, m);
    }
    if (this.headBone < 0) return;
    this.head.quaternion.fromArray(world, this.headBone * 4);
    this.head.position.copy(HEAD).applyQuaternion(this.head.quaternion);
    this.head.position.add(a.fromArray(joints, this.headBone * 3));
    if (!this.face) return;
    this.face.object.quaternion.copy(this.head.quaternion);
    this.face.object.position.copy(a);
    this.express(time);
  }
}
