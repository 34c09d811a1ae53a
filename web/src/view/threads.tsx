import { useThree, type ThreeEvent } from '@react-three/fiber';
import { useEffect, useMemo, useRef, type RefObject } from 'react';
import { useTheme } from 'styled-components';
import * as THREE from 'three';
import type { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js';
import { sampleOf } from '../api/tracks';
import type { Transport } from '../time/transport';
import { bodyAt, pose, poseBuffers, type BodyLevels } from './pose';
import { RestHandle, type RestTurn } from './rest-handle';

/** Which bone of the performer moves which bones of the character, drawn between their joints and changed there. */
export type Threads = {
  pairs: { bone: string; targets: string[]; doubtful: boolean }[];
  /** The performer's bone that is picked; a click on a joint of the character gives it that bone. */
  picked: string | null;
  fingers: boolean;
  onPick: (bone: string | null) => void;
  onTarget: (target: string) => void;
  /** The picked bone's rest pose, where it can be turned by dragging. */
  turn: RestTurn | null;
};

const FINGER = /Thumb|Index|Middle|Ring|Little/;
const RADIUS = 0.014;
const SHAPE = new THREE.SphereGeometry(1, 10, 8);

type Props = { threads: Threads; performer: BodyLevels; character: BodyLevels; aside: number; transport: Transport; controls: RefObject<OrbitControls | null>; onName: (name: string, x: number, y: number) => void; onLeave: () => void };

/** Threads between matched joints: doubtful ones broken, the picked one bright. Joints can be clicked. */
export function ThreadLines({ threads, performer, character, aside, transport, controls, onName, onLeave }: Props) {
  const theme = useTheme();
  const { gl, invalidate } = useThree();
  const own = useRef<THREE.InstancedMesh>(null);
  const theirs = useRef<THREE.InstancedMesh>(null);
  const { bones } = performer.whole;
  const ours = useMemo(() => bones.filter((b) => threads.fingers || !FINGER.test(b)), [bones, threads.fingers]);
  const names = character.whole.bones;
  const shown = useMemo(
    () =>
      threads.pairs
        .filter((p) => threads.fingers || !FINGER.test(p.bone) || p.doubtful)
        .flatMap((p) => p.targets.map((target) => ({ from: bones.indexOf(p.bone), to: names.indexOf(target), doubtful: p.doubtful, picked: p.bone === threads.picked })))
        .filter((t) => t.from >= 0 && t.to >= 0),
    [threads, bones, names],
  );
  const lines = useMemo(() => {
    const made = { plain: [] as typeof shown, doubtful: [] as typeof shown, picked: [] as typeof shown };
    for (const t of shown) made[t.picked ? 'picked' : t.doubtful ? 'doubtful' : 'plain'].push(t);
    const material = {
      plain: new THREE.LineBasicMaterial({ color: theme.quiet, transparent: true, opacity: 0.55, depthTest: false }),
      doubtful: new THREE.LineDashedMaterial({ color: theme.wrong, dashSize: 0.04, gapSize: 0.025, depthTest: false }),
      picked: new THREE.LineBasicMaterial({ color: theme.selection, depthTest: false }),
    };
    return (['plain', 'doubtful', 'picked'] as const).map((kind) => {
      const geometry = new THREE.BufferGeometry().setAttribute('position', new THREE.BufferAttribute(new Float32Array(made[kind].length * 6), 3));
      const object = new THREE.LineSegments(geometry, material[kind]);
      object.frustumCulled = false;
      object.renderOrder = 5;
      object.raycast = () => null;
      return { object, rows: made[kind], dashed: kind === 'doubtful' };
    });
  }, [shown, theme]);
  useEffect(() => () => lines.forEach(({ object }) => { object.geometry.dispose(); (object.material as THREE.Material).dispose(); }), [lines]);

  useEffect(() => {
    const buffers = { a: poseBuffers(bones.length), b: poseBuffers(names.length) };
    const m = new THREE.Matrix4();
    const put = (mesh: THREE.InstancedMesh | null, i: number, joints: Float32Array, bone: number, size: number, shift: number) => {
      m.makeScale(size, size, size).setPosition(joints[bone * 3] + shift, joints[bone * 3 + 1], joints[bone * 3 + 2]);
      mesh?.setMatrixAt(i, m);
    };
    const colours = { plain: new THREE.Color(theme.quiet), picked: new THREE.Color(theme.selection), driven: new THREE.Color(theme.text) };
    const driven = new Set(threads.pairs.flatMap((p) => p.targets));
    const mine = new Set(threads.pairs.find((p) => p.bone === threads.picked)?.targets ?? []);
    ours.forEach((name, i) => own.current?.setColorAt(i, name === threads.picked ? colours.picked : colours.driven));
    names.forEach((name, i) => theirs.current?.setColorAt(i, mine.has(name) ? colours.picked : driven.has(name) ? colours.driven : colours.plain));
    for (const mesh of [own.current, theirs.current]) if (mesh?.instanceColor) mesh.instanceColor.needsUpdate = true;
    return transport.subscribe((time) => {
      const [a, b] = [bodyAt(performer, time), bodyAt(character, time)];
      pose(a, sampleOf(a, time), buffers.a);
      pose(b, sampleOf(b, time), buffers.b);
      ours.forEach((name, i) => put(own.current, i, buffers.a.joints, bones.indexOf(name), name === threads.picked ? 1.6 * RADIUS : RADIUS, 0));
      names.forEach((name, i) => put(theirs.current, i, buffers.b.joints, i, mine.has(name) ? 1.6 * RADIUS : 0.8 * RADIUS, aside));
      for (const mesh of [own.current, theirs.current]) if (mesh) mesh.instanceMatrix.needsUpdate = true;
      for (const { object, rows, dashed } of lines) {
        const at = object.geometry.getAttribute('position') as THREE.BufferAttribute;
        rows.forEach(({ from, to }, i) => {
          const [p, q] = [buffers.a.joints, buffers.b.joints];
          at.setXYZ(2 * i, p[from * 3], p[from * 3 + 1], p[from * 3 + 2]);
          at.setXYZ(2 * i + 1, q[to * 3] + aside, q[to * 3 + 1], q[to * 3 + 2]);
        });
        at.needsUpdate = true;
        if (dashed && rows.length) object.computeLineDistances();
      }
      invalidate();
    });
  }, [threads, performer, character, aside, transport, bones, names, ours, lines, theme, invalidate]);

  const over = (list: string[]) => (e: ThreeEvent<PointerEvent>) => {
    if (e.instanceId === undefined) return;
    const box = gl.domElement.getBoundingClientRect();
    onName(list[e.instanceId], e.clientX - box.left, e.clientY - box.top);
  };
  const click = (act: (i: number) => void) => (e: ThreeEvent<MouseEvent>) => {
    e.stopPropagation();
    if (e.instanceId !== undefined) act(e.instanceId);
  };
  const joints = (count: number, ref: typeof own, list: string[], act: (i: number) => void) => (
    <instancedMesh key={count} ref={ref} args={[SHAPE, undefined, count]} frustumCulled={false} renderOrder={6}
      onPointerMove={over(list)} onPointerOut={onLeave} onClick={click(act)}>
      <meshBasicMaterial depthTest={false} transparent opacity={0.9} />
    </instancedMesh>
  );
  return (
    <>
      {lines.map(({ object }, i) => <primitive key={i} object={object} />)}
      {joints(ours.length, own, ours, (i) => threads.onPick(ours[i] === threads.picked ? null : ours[i]))}
      {joints(names.length, theirs, names, (i) => threads.picked && threads.onTarget(names[i]))}
      {threads.turn && <RestHandle turn={threads.turn} performer={performer} character={character} aside={aside} transport={transport} controls={controls} onName={onName} onLeave={onLeave} />}
    </>
  );
}
