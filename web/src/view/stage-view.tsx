import { Canvas, useThree, type ThreeEvent } from '@react-three/fiber';
import { useEffect, useMemo, useRef, useState } from 'react';
import styled, { useTheme } from 'styled-components';
import * as THREE from 'three';
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js';
import { nearestSample, sampleOf, type Track } from '../api/tracks';
import type { PropView } from './pose';
import type { Proposal } from '../lanes/draw';
import { WordButton } from '../parts/controls';
import type { Transport } from '../time/transport';

import { Pace } from './pace';
import { pose, poseBuffers, type Body } from './pose';
import { segmentsOf } from './segments';

/** Whether pictures are drawn by the processor: smoothing every edge four times over would cost the rate there. */
const software = (() => {
  const gl = document.createElement('canvas').getContext('webgl');
  const info = gl?.getExtension('WEBGL_debug_renderer_info');
  const name = info ? String(gl!.getParameter(info.UNMASKED_RENDERER_WEBGL)) : '';
  gl?.getExtension('WEBGL_lose_context')?.loseContext();
  return /swiftshader|llvmpipe|software|basic render/i.test(name);
})();

const FULL = software ? 1 : Math.min(1.5, window.devicePixelRatio || 1);

const TRAIL_S = 1;
const HEAD = new THREE.Vector3(0, 0.2, 0);

type SceneProps = {
  body: Body | null;
  markers: Track | null;
  props: PropView[];
  ghost: Proposal | null;
  names: string[];
  transport: Transport;
  selected: number | null;
  look: { from: string; count: number };
  onSelect: (marker: number | null) => void;
  onHover: (hover: { marker: number; x: number; y: number } | null) => void;
};

/** A prop as its markers joined to each other: nothing is known of its surface. */
function propLines(offsets: number[][], colour: string): THREE.LineSegments {
  const ends: number[] = [];
  offsets.forEach((a, i) => offsets.slice(i + 1).forEach((b) => ends.push(...a, ...b)));
  offsets.forEach((a) => ends.push(...a, 0, 0, 0));
  const lines = new THREE.LineSegments(
    new THREE.BufferGeometry().setAttribute('position', new THREE.Float32BufferAttribute(ends, 3)),
    new THREE.LineBasicMaterial({ color: colour }),
  );
  lines.frustumCulled = false;
  lines.raycast = () => null;
  return lines;
}

const UP = new THREE.Vector3(0, 1, 0);

function Scene({ body, markers, props, ghost, names, transport, selected, look, onSelect, onHover }: SceneProps) {
  const theme = useTheme();
  const { camera, gl, invalidate, setDpr } = useThree();
  const controls = useRef<OrbitControls | null>(null);
  const bones = useRef<THREE.InstancedMesh>(null);
  const dots = useRef<THREE.InstancedMesh>(null);
  const ring = useRef<THREE.Mesh>(null);
  const head = useRef<THREE.Mesh>(null);
  const segments = useMemo(() => (body ? segmentsOf(body) : []), [body]);
  const trail = useMemo(() => {
    const line = new THREE.Line(new THREE.BufferGeometry(), new THREE.LineBasicMaterial({ color: theme.selection }));
    line.frustumCulled = false;
    return line;
  }, [theme]);
  const proposal = useMemo(() => {
    const line = new THREE.Line(new THREE.BufferGeometry(), new THREE.LineDashedMaterial({ color: theme.text, dashSize: 0.012, gapSize: 0.008 }));
    line.frustumCulled = false;
    const places = ghost?.path.filter((p) => p !== null) ?? [];
    line.geometry.setAttribute('position', new THREE.Float32BufferAttribute(places.flat(), 3));
    if (places.length > 1) line.computeLineDistances();
    line.visible = places.length > 1;
    return line;
  }, [theme, ghost]);
  const spirit = useRef<THREE.Mesh>(null); // where the marker would be at this moment
  const pace = useMemo(() => new Pace(software ? 1 : 0), []);
  const frames = useMemo(() => props.map((p) => propLines(p.offsets, theme.text)), [props, theme]);
  const headBone = body?.bones.indexOf('head') ?? -1;

  useEffect(() => {
    const c = new OrbitControls(camera, gl.domElement);
    c.target.set(0, 0.95, 0);
    c.addEventListener('change', () => invalidate());
    controls.current = c;
    return () => c.dispose();
  }, [camera, gl, invalidate]);

  // colours of the bone instances
  useEffect(() => {
    const mesh = bones.current;
    if (!mesh) return;
    const colours = { left: new THREE.Color(theme.left), right: new THREE.Color(theme.right), middle: new THREE.Color(theme.bone) };
    segments.forEach((s, i) => mesh.setColorAt(i, colours[s.side]));
    if (mesh.instanceColor) mesh.instanceColor.needsUpdate = true;
  }, [segments, theme]);

  useEffect(() => {
    const mesh = dots.current;
    if (!mesh) return;
    const colours = { left: new THREE.Color(theme.left), right: new THREE.Color(theme.right), middle: new THREE.Color(theme.marker) };
    mesh.boundingSphere = new THREE.Sphere(new THREE.Vector3(), 1000); // picking looks at every marker, wherever it goes
    names.forEach((n, i) => mesh.setColorAt(i, n.endsWith(' left') ? colours.left : n.endsWith(' right') ? colours.right : colours.middle));
    if (mesh.instanceColor) mesh.instanceColor.needsUpdate = true;
  }, [names, theme]);

  useEffect(() => {
    const buffers = body ? poseBuffers(body.parents.length) : null;
    const a = new THREE.Vector3();
    const b = new THREE.Vector3();
    const d = new THREE.Vector3();
    const q = new THREE.Quaternion();
    const s = new THREE.Vector3();
    const m = new THREE.Matrix4();
    let share = 1;
    return transport.subscribe((time) => {
      const wanted = transport.speed !== 0 ? pace.next(performance.now()) : share === 1 ? 1 : pace.stop();
      if (wanted !== share) {
        share = wanted;
        setDpr(share * FULL);
      }
      if (body && buffers && bones.current) {
        pose(body, sampleOf(body, time), buffers);
        const j = buffers.joints;
        segments.forEach((seg, i) => {
          a.fromArray(j, seg.parent * 3);
          b.fromArray(j, seg.bone * 3);
          d.subVectors(b, a);
          const length = d.length();
          if (length < 1e-6) return;
          q.setFromUnitVectors(UP, d.clone().divideScalar(length));
          const middle = (seg.from + seg.to) / 2;
          s.set(seg.radius, length * (seg.to - seg.from), seg.radius);
          m.compose(a.addScaledVector(d, middle), q, s);
          bones.current!.setMatrixAt(i, m);
        });
        bones.current.instanceMatrix.needsUpdate = true;
        if (head.current && headBone >= 0) {
          q.fromArray(buffers.world, headBone * 4);
          head.current.quaternion.copy(q);
          head.current.position.fromArray(j, headBone * 3).add(HEAD.clone().multiplyScalar(0.55).applyQuaternion(q));
        }
      }
      if (markers && dots.current) {
        const frame = nearestSample(markers, time);
        const count = markers.width / 3;
        for (let i = 0; i < count; i += 1) {
          const at = frame * markers.width + i * 3;
          const x = markers.values[at];
          const hidden = Number.isNaN(x);
          const size = hidden ? 0 : i === selected ? 0.014 : 0.0095;
          m.makeScale(size, size, size);
          m.setPosition(hidden ? 0 : x, hidden ? -9 : markers.values[at + 1], hidden ? 0 : markers.values[at + 2]);
          dots.current.setMatrixAt(i, m);
        }
        dots.current.instanceMatrix.needsUpdate = true;
        if (selected !== null) {
          const span = Math.round(TRAIL_S * markers.rate);
          const points: number[] = [];
          for (let f = Math.max(0, frame - span); f <= Math.min(markers.samples - 1, frame + span); f += 1) {
            const at = f * markers.width + selected * 3;
            if (!Number.isNaN(markers.values[at])) points.push(markers.values[at], markers.values[at + 1], markers.values[at + 2]);
          }
          trail.geometry.dispose();
          trail.geometry = new THREE.BufferGeometry().setAttribute('position', new THREE.Float32BufferAttribute(points, 3));
          const at = frame * markers.width + selected * 3;
          if (ring.current) {
            ring.current.visible = !Number.isNaN(markers.values[at]);
            if (ring.current.visible) ring.current.position.fromArray(markers.values, at);
            ring.current.lookAt(camera.position);
          }
        }
      }
      frames.forEach((object, i) => {
        const track = props[i].pose;
        const at = nearestSample(track, time) * 7;
        object.position.fromArray(track.values, at);
        object.quaternion.fromArray(track.values, at + 3);
      });
      if (spirit.current) {
        const place = ghost ? ghost.path[sampleOf(ghost, time) - ghost.first] : null;
        spirit.current.visible = Boolean(place);
        if (place) spirit.current.position.fromArray(place);
      }
      trail.visible = selected !== null;
      if (selected === null && ring.current) ring.current.visible = false;
      invalidate();
    });
  }, [body, markers, props, frames, ghost, segments, transport, selected, trail, camera, invalidate, headBone, setDpr, pace]);

  // looking from a side, or framing what is selected
  useEffect(() => {
    const c = controls.current;
    if (!c) return;
    const target = new THREE.Vector3(0, 0.95, 0);
    let distance = 3.1;
    if (markers && look.from === 'selection' && selected !== null) {
      const at = nearestSample(markers, transport.time) * markers.width + selected * 3;
      if (!Number.isNaN(markers.values[at])) {
        target.fromArray(markers.values, at);
        distance = 0.9;
      }
    } else if (body) {
      const at = Math.min(body.frames - 1, Math.max(0, sampleOf(body, transport.time))) * 3;
      target.set(body.root[at], 0.92, body.root[at + 2]);
    }
    const direction = new THREE.Vector3(
      ...(({ front: [0, 0.12, 1], left: [1, 0.12, 0], above: [0.001, 1, 0.001] } as Record<string, [number, number, number]>)[look.from] ?? [0.45, 0.22, 0.87]),
    ).normalize();
    if (body && look.from !== 'above') {
      const at = Math.min(body.frames - 1, Math.max(0, sampleOf(body, transport.time))) * body.parents.length * 4;
      const turn = 2 * Math.atan2(body.rotation[at + 1], body.rotation[at + 3]);
      direction.applyAxisAngle(UP, turn);
    }
    c.target.copy(target);
    camera.position.copy(target).addScaledVector(direction, distance);
    c.update();
    invalidate();
    // only when asked for, or when the take arrives: never while the user is turning the view
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [look, body]);

  const over = (e: ThreeEvent<PointerEvent>) => {
    if (e.instanceId === undefined) return;
    const box = gl.domElement.getBoundingClientRect();
    onHover({ marker: e.instanceId, x: e.clientX - box.left, y: e.clientY - box.top });
  };
  return (
    <>
      <color attach="background" args={[theme.ground]} />
      <hemisphereLight args={['#ffffff', '#4a4660', 1.7]} />
      <directionalLight position={[2, 4, 3]} intensity={1.1} />
      <gridHelper args={[6, 12, theme.hairline, theme.hairline]} />
      {body && (
        <>
          <instancedMesh key={segments.length} ref={bones} args={[undefined, undefined, segments.length]} frustumCulled={false} raycast={() => null}>
            <cylinderGeometry args={[1, 1, 1, 10]} />
            <meshLambertMaterial />
          </instancedMesh>
          <mesh ref={head} scale={[0.075, 0.11, 0.09]} raycast={() => null}>
            <sphereGeometry args={[1, 18, 14]} />
            <meshLambertMaterial color={theme.bone} transparent opacity={0.55} />
          </mesh>
        </>
      )}
      {markers && (
        <instancedMesh
          key={`m${markers.width}`} ref={dots} args={[undefined, undefined, markers.width / 3]} frustumCulled={false}
          onPointerMove={over} onPointerOut={() => onHover(null)}
          onClick={(e) => {
            e.stopPropagation();
            onSelect(e.instanceId ?? null);
          }}
        >
          <sphereGeometry args={[1, 10, 8]} />
          <meshBasicMaterial />
        </instancedMesh>
      )}
      <mesh ref={ring} visible={false} raycast={() => null}>
        <ringGeometry args={[0.028, 0.033, 32]} />
        <meshBasicMaterial color={theme.selection} side={THREE.DoubleSide} depthTest={false} />
      </mesh>
      <primitive object={trail} />
      <primitive object={proposal} />
      <mesh ref={spirit} visible={false} raycast={() => null}>
        <sphereGeometry args={[0.014, 12, 10]} />
        <meshBasicMaterial color={theme.text} wireframe />
      </mesh>
      {frames.map((object, i) => <primitive key={props[i].name} object={object} />)}
    </>
  );
}

const Wrap = styled.div`
  position: relative;
  width: 100%;
  height: 100%;
  min-height: 0;
  overflow: hidden;
`;

const Overlay = styled.div`
  position: absolute;
  inset: 8px 14px auto 14px;
  display: flex;
  gap: 16px;
  pointer-events: none;
  > * {
    pointer-events: auto;
  }
  > :first-child {
    margin-right: auto;
    color: ${(p) => p.theme.quiet};
  }
`;

const Tip = styled.div`
  position: absolute;
  pointer-events: none;
  padding: 2px 8px;
  background: ${(p) => p.theme.raised};
  border: 1px solid ${(p) => p.theme.hairline};
  white-space: nowrap;
`;

export type StageViewProps = Omit<SceneProps, 'look' | 'onHover'> & { caption: string };

/** The 3D view: solved body over named markers, in step with the transport. */
export function StageView({ caption, ...scene }: StageViewProps) {
  const [look, setLook] = useState({ from: 'three-quarter', count: 0 });
  const [hover, setHover] = useState<{ marker: number; x: number; y: number } | null>(null);
  const from = (name: string) => setLook((l) => ({ from: name, count: l.count + 1 }));
  useEffect(() => {
    const frame = () => from('selection');
    window.addEventListener('otrevo-frame-selection', frame);
    return () => window.removeEventListener('otrevo-frame-selection', frame);
  }, []);
  return (
    <Wrap aria-label="3D view" role="group">
      <Canvas frameloop="demand" dpr={FULL} gl={{ antialias: !software, alpha: false, stencil: false }} camera={{ fov: 38, near: 0.05, far: 60, position: [1.5, 1.6, 3] }} onPointerMissed={() => scene.onSelect(null)}>
        <Scene {...scene} look={look} onHover={setHover} />
      </Canvas>
      <Overlay>
        <span>{caption}</span>
        <WordButton onPress={() => from('front')}>Front</WordButton>
        <WordButton onPress={() => from('left')}>Left</WordButton>
        <WordButton onPress={() => from('above')}>Above</WordButton>
        <WordButton onPress={() => from('selection')} isDisabled={scene.selected === null}>Frame selection</WordButton>
      </Overlay>
      {hover && <Tip style={{ left: hover.x + 12, top: hover.y - 10 }}>{scene.names[hover.marker] ?? ''}</Tip>}
    </Wrap>
  );
}
