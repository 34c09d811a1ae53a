import { useThree, type ThreeEvent } from '@react-three/fiber';
import { useEffect, useMemo, useRef, type RefObject } from 'react';
import { useTheme } from 'styled-components';
import * as THREE from 'three';
import type { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js';
import { sampleOf } from '../api/tracks';
import type { Transport } from '../time/transport';
import { bodyAt, pose, poseBuffers, type BodyLevels } from './pose';

/** The bone whose rest pose can be turned: by `given` degrees about the world's axes until now. */
export type RestTurn = {
  bone: string;
  target: string;
  given: number[] | null;
  /** Its direction is the performer's whatever the rest pose is, so that dragging rolls it. */
  follows: boolean;
  onTurn: (degrees: number[]) => void;
};

const SIZE = 0.022;
const SHAPE = new THREE.SphereGeometry(1, 14, 10);
const STUB_M = 0.12; // of a bone that nothing hangs on
const ROLL_DEG = 0.5; // by pixel
const LEAST_DEG = 0.5;

/** Degrees about the world's axes as a rotation, and back. */
export function rotationOf(degrees: number[]): THREE.Quaternion {
  const axis = new THREE.Vector3(...degrees).multiplyScalar(Math.PI / 180);
  const angle = axis.length();
  return angle < 1e-9 ? new THREE.Quaternion() : new THREE.Quaternion().setFromAxisAngle(axis.divideScalar(angle), angle);
}

export function degreesOf(q: THREE.Quaternion): number[] {
  const sign = q.w < 0 ? -1 : 1;
  const half = Math.hypot(q.x, q.y, q.z);
  const k = half < 1e-9 ? 0 : ((2 * Math.atan2(half, Math.abs(q.w))) / half) * (180 / Math.PI) * sign;
  return [q.x * k, q.y * k, q.z * k];
}

/** What the rest turn becomes when a bone that shows `ours` of the performer is seen to turn by `seen` in the world. */
export function turnedRest(given: number[], ours: THREE.Quaternion, seen: THREE.Quaternion): number[] {
  return degreesOf(ours.clone().invert().multiply(seen).multiply(ours).multiply(rotationOf(given)));
}

type Props = {
  turn: RestTurn; performer: BodyLevels; character: BodyLevels; aside: number; transport: Transport; controls: RefObject<OrbitControls | null>;
  onName: (name: string, x: number, y: number) => void; onLeave: () => void;
};

/** A handle at the end of the picked bone: dragging it turns how the bone rests. */
export function RestHandle({ turn, performer, character, aside, transport, controls, onName, onLeave }: Props) {
  const theme = useTheme();
  const { camera, gl, invalidate } = useThree();
  const knob = useRef<THREE.Mesh>(null);
  const line = useMemo(() => {
    const object = new THREE.Line(
      new THREE.BufferGeometry().setAttribute('position', new THREE.BufferAttribute(new Float32Array(6), 3)),
      new THREE.LineBasicMaterial({ color: theme.selection, depthTest: false }),
    );
    object.frustumCulled = false;
    object.renderOrder = 7;
    object.raycast = () => null;
    return object;
  }, [theme.selection]);
  useEffect(() => () => { line.geometry.dispose(); (line.material as THREE.Material).dispose(); }, [line]);
  const at = useRef({ start: new THREE.Vector3(), end: new THREE.Vector3(), ours: new THREE.Quaternion(), dragging: false });

  const draw = (end: THREE.Vector3) => {
    const { start } = at.current;
    (line.geometry.getAttribute('position') as THREE.BufferAttribute).setXYZ(0, start.x, start.y, start.z).setXYZ(1, end.x, end.y, end.z).needsUpdate = true;
    knob.current?.position.copy(end);
    invalidate();
  };

  useEffect(() => {
    const { bones, parents } = character.whole;
    const [bone, own] = [bones.indexOf(turn.target), performer.whole.bones.indexOf(turn.bone)];
    if (bone < 0 || own < 0) return undefined;
    const [a, b] = [poseBuffers(performer.whole.bones.length), poseBuffers(bones.length)];
    const child = turn.bone === 'head' ? -1 : parents.indexOf(bone); // eyes and jaw hang on a head
    return transport.subscribe((time) => {
      if (at.current.dragging) return;
      const [us, them] = [bodyAt(performer, time), bodyAt(character, time)];
      pose(us, sampleOf(us, time), a);
      pose(them, sampleOf(them, time), b);
      const joint = (i: number) => new THREE.Vector3(b.joints[i * 3] + aside, b.joints[i * 3 + 1], b.joints[i * 3 + 2]);
      const { start, end, ours } = at.current;
      start.copy(joint(bone));
      if (child >= 0) end.copy(joint(child));
      else end.copy(start).sub(joint(Math.max(parents[bone], 0))).setLength(STUB_M).add(start);
      ours.fromArray(a.world, own * 4);
      draw(end);
    });
  });

  const drag = (e: ThreeEvent<PointerEvent>) => {
    e.stopPropagation();
    transport.stop();
    const { start, end, ours } = at.current;
    at.current.dragging = true;
    if (controls.current) controls.current.enabled = false;
    const from = end.clone().sub(start);
    const plane = new THREE.Plane().setFromNormalAndCoplanarPoint(camera.getWorldDirection(new THREE.Vector3()), end);
    const [seen, ray, box, x0] = [new THREE.Quaternion(), new THREE.Raycaster(), gl.domElement.getBoundingClientRect(), e.clientX];
    const move = (p: PointerEvent) => {
      if (turn.follows) seen.setFromAxisAngle(from.clone().normalize(), ((p.clientX - x0) * ROLL_DEG * Math.PI) / 180);
      else {
        ray.setFromCamera(new THREE.Vector2(((p.clientX - box.left) / box.width) * 2 - 1, 1 - ((p.clientY - box.top) / box.height) * 2), camera);
        const hit = ray.ray.intersectPlane(plane, new THREE.Vector3());
        if (!hit || hit.distanceTo(start) < 1e-4) return;
        seen.setFromUnitVectors(from.clone().normalize(), hit.sub(start).normalize());
      }
      draw(from.clone().applyQuaternion(seen).add(start));
      onName(`${(2 * Math.acos(Math.min(1, Math.abs(seen.w))) * (180 / Math.PI)).toFixed(0)}°`, p.clientX - box.left, p.clientY - box.top);
    };
    const ended = (keep: boolean) => () => {
      window.removeEventListener('pointermove', move);
      window.removeEventListener('pointerup', done);
      window.removeEventListener('keydown', key);
      if (controls.current) controls.current.enabled = true;
      at.current.dragging = false;
      onLeave();
      const turned = 2 * Math.acos(Math.min(1, Math.abs(seen.w))) * (180 / Math.PI);
      if (keep && turned >= LEAST_DEG) turn.onTurn(turnedRest(turn.given ?? [0, 0, 0], ours, seen));
      else draw(end);
    };
    const [done, never] = [ended(true), ended(false)];
    const key = (k: KeyboardEvent) => k.key === 'Escape' && never();
    window.addEventListener('pointermove', move);
    window.addEventListener('pointerup', done);
    window.addEventListener('keydown', key);
  };
  const hover = (e: ThreeEvent<PointerEvent>) => {
    if (at.current.dragging) return;
    e.stopPropagation();
    const box = gl.domElement.getBoundingClientRect();
    gl.domElement.style.cursor = 'grab';
    onName(turn.follows ? 'drag sideways to roll it at rest' : 'drag to turn it at rest', e.clientX - box.left, e.clientY - box.top);
  };
  const leave = () => {
    gl.domElement.style.cursor = '';
    if (!at.current.dragging) onLeave();
  };
  return (
    <>
      <primitive object={line} />
      <mesh ref={knob} geometry={SHAPE} scale={SIZE} renderOrder={8} onPointerDown={drag} onPointerMove={hover} onPointerOut={leave} onClick={(e) => e.stopPropagation()}>
        <meshBasicMaterial color={theme.selection} depthTest={false} transparent />
      </mesh>
    </>
  );
}
