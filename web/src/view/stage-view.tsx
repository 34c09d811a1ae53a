import { Canvas, useThree, type ThreeEvent } from '@react-three/fiber';
import { useEffect, useMemo, useRef, useState } from 'react';
import styled, { useTheme } from 'styled-components';
import * as THREE from 'three';
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js';
import { levelFor, nearestSample, sampleOf, type Levels, type Track } from '../api/tracks';
import type { Proposal } from '../lanes/draw';
import { WordButton } from '../parts/controls';
import type { Transport } from '../time/transport';
import { Figure, UP } from './figure';
import { Follower } from './follow';
import { Pace } from './pace';
import { bodyAt, frameAt, type BodyLevels, type PropView } from './pose';
import type { CharacterFile, CharacterMotion } from './skin';
import { FULL, software } from './software';
import { ThreadLines, type Threads } from './threads';
import { UncertainJoints, type Uncertainty } from './uncertainty';
import { useSkins } from './use-skins';

const TRAIL_S = 1;

/** A character in the view: its motion, its file where it has a skin, and how far to the performer's left it stands, metres. */
export type ShownCharacter = { motion: CharacterMotion; file: CharacterFile | null; aside: number };
const NOBODY: ShownCharacter[] = [];

type SceneProps = {
  bodies: BodyLevels[];
  characters?: ShownCharacter[];
  /** Threads between the first body and the first character. */
  threads?: Threads | null;
  markers: Levels | null;
  /** How sure the joints of one of the bodies are. */
  uncertainty?: Uncertainty | null;
  props: PropView[];
  ghost: Proposal | null;
  names: string[];
  transport: Transport;
  selected: number | null;
  volume: boolean;
  look: { from: string; count: number };
  /** Whether the view goes with the first body. */
  follow: boolean;
  onSelect: (marker: number | null) => void;
  onHover: (hover: { marker: number; x: number; y: number } | null) => void;
  onName: (named: { name: string; x: number; y: number } | null) => void;
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

const TRAIL_POINTS = 600;

/** The path of one marker about a moment, in room that is made once. */
class Trail {
  readonly line: THREE.Line;
  private readonly points = new THREE.BufferAttribute(new Float32Array(3 * TRAIL_POINTS), 3);

  constructor(colour: string) {
    const geometry = new THREE.BufferGeometry().setAttribute('position', this.points);
    this.line = new THREE.Line(geometry, new THREE.LineBasicMaterial({ color: colour }));
    this.line.frustumCulled = false;
  }

  place(track: Track, marker: number, frame: number) {
    const span = Math.min(Math.round(TRAIL_S * track.rate), TRAIL_POINTS / 2 - 1);
    const last = Math.min(track.samples - 1, frame + span);
    let count = 0;
    for (let f = Math.max(0, frame - span); f <= last; f += 1) {
      const at = f * track.width + marker * 3;
      if (Number.isNaN(track.values[at])) continue;
      this.points.setXYZ(count, track.values[at], track.values[at + 1], track.values[at + 2]);
      count += 1;
    }
    this.line.geometry.setDrawRange(0, count);
    this.points.needsUpdate = true;
  }
}

function Scene({ bodies, volume, characters = NOBODY, threads = null, onName, markers, uncertainty = null, props, ghost, names, transport, selected, look, follow, onSelect, onHover }: SceneProps) {
  const theme = useTheme();
  const { camera, gl, invalidate, scene, setDpr } = useThree();
  const controls = useRef<OrbitControls | null>(null);
  const bones = useRef<THREE.InstancedMesh>(null);
  const dots = useRef<THREE.InstancedMesh>(null);
  const ring = useRef<THREE.Mesh>(null);
  const skins = useSkins(characters);
  const drawn = useMemo(() => [...bodies, ...characters.filter((c) => !c.file).map((c) => c.motion.levels)], [bodies, characters]);
  const figures = useMemo(() => drawn.map((levels) => new Figure(levels, theme, volume)), [drawn, theme, volume]);
  // New ones come with every stretch of a long take. They enter the scene where they are posed too (below): one that is drawn and never
  // posed lies about the origin.
  useEffect(() => {
    const objects = figures.flatMap((f) => f.objects);
    scene.add(...objects);
    return () => {
      scene.remove(...objects);
      figures.forEach((f) => f.dispose());
    };
  }, [figures, scene]);
  const segments = useMemo(() => figures.flatMap((f) => f.segments), [figures]);
  const trail = useMemo(() => new Trail(theme.selection), [theme]);
  const proposal = useMemo(() => {
    const line = new THREE.Line(new THREE.BufferGeometry(), new THREE.LineDashedMaterial({ color: theme.text, dashSize: 0.012, gapSize: 0.008 }));
    line.frustumCulled = false;
    const path = ghost?.path.filter((p) => p !== null) ?? [];
    line.geometry.setAttribute('position', new THREE.Float32BufferAttribute(path.flat(), 3));
    if (path.length > 1) line.computeLineDistances();
    line.visible = path.length > 1;
    return line;
  }, [theme, ghost]);
  const spirit = useRef<THREE.Mesh>(null); // where the marker would be at this moment
  const pace = useMemo(() => new Pace(software ? 1 : 0), []);
  const follower = useMemo(() => new Follower(), []);
  const first = bodies[0] ?? characters[0]?.motion.levels;
  const frames = useMemo(() => props.map((p) => propLines(p.offsets, theme.text)), [props, theme]);
  const unsure = uncertainty && (bodies.find((b) => b.performer === uncertainty.performer) ?? null);
  const markerCount = markers ? markers.whole.width / 3 : 0;

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
    const m = new THREE.Matrix4();
    let share = 1;
    const placeMarkers = (time: number) => {
      if (!markers || !dots.current) return;
      const track = levelFor(markers, time, time);
      const frame = nearestSample(track, time);
      for (let i = 0; i < markerCount; i += 1) {
        const at = frame * track.width + i * 3;
        const x = track.values[at];
        const hidden = Number.isNaN(x);
        const size = hidden ? 0 : i === selected ? 0.014 : 0.0095;
        m.makeScale(size, size, size);
        m.setPosition(hidden ? 0 : x, hidden ? -9 : track.values[at + 1], hidden ? 0 : track.values[at + 2]);
        dots.current.setMatrixAt(i, m);
      }
      dots.current.instanceMatrix.needsUpdate = true;
      if (selected === null) return;
      trail.place(track, selected, frame);
      const at = frame * track.width + selected * 3;
      if (ring.current) {
        ring.current.visible = !Number.isNaN(track.values[at]);
        if (ring.current.visible) ring.current.position.fromArray(track.values, at);
        ring.current.lookAt(camera.position);
      }
    };
    const placeProps = (time: number) => {
      for (let i = 0; i < frames.length; i += 1) {
        const track = levelFor(props[i].pose, time, time);
        const at = nearestSample(track, time) * 7;
        frames[i].position.fromArray(track.values, at);
        frames[i].position.x += props[i].aside ?? 0;
        frames[i].quaternion.fromArray(track.values, at + 3);
      }
    };
    const goAlong = (time: number) => {
      const step = follow && first && look.from !== 'selection' ? follower.follow(first, time) : null;
      if (!step || !controls.current) return;
      const { position } = camera, { target } = controls.current;
      position.set(position.x + step[0], position.y + step[1], position.z + step[2]);
      target.set(target.x + step[0], target.y + step[1], target.z + step[2]);
      controls.current.update();
    };
    return transport.subscribe((time) => {
      goAlong(time);
      const wanted = transport.speed !== 0 ? pace.next(performance.now()) : share === 1 ? 1 : pace.stop();
      if (wanted !== share) {
        share = wanted;
        setDpr(share * FULL);
      }
      let instance = 0;
      for (const figure of figures) {
        figure.place(time, bones.current, instance);
        instance += figure.segments.length;
      }
      if (bones.current) bones.current.instanceMatrix.needsUpdate = true;
      for (const { skin } of skins) skin.place(time);
      placeMarkers(time);
      placeProps(time);
      if (spirit.current) {
        const position = ghost ? ghost.path[sampleOf(ghost, time) - ghost.first] : null;
        spirit.current.visible = Boolean(position);
        if (position) spirit.current.position.fromArray(position);
      }
      trail.line.visible = selected !== null;
      if (selected === null && ring.current) ring.current.visible = false;
      invalidate();
    });
  }, [figures, skins, markers, markerCount, props, frames, ghost, transport, selected, trail, camera, invalidate, setDpr, pace, first, follow, follower, look.from]);

  // looking from a side, or framing what is selected
  const looked = useRef('');
  useEffect(() => {
    const c = controls.current;
    const asked = `${look.from} ${look.count} ${first ? first.performer : '-'} ${characters.map((c) => c.aside).join()}`;
    if (!c || looked.current === asked) return; // only when asked for, or when a take arrives: never while the user is turning the view
    looked.current = asked;
    const target = new THREE.Vector3(0, 0.95, 0);
    let distance = 3.1;
    const body = first ? bodyAt(first, transport.time) : null;
    const frame = body ? frameAt(body, transport.time) : 0;
    if (markers && look.from === 'selection' && selected !== null) {
      const track = levelFor(markers, transport.time, transport.time);
      const at = nearestSample(track, transport.time) * track.width + selected * 3;
      if (!Number.isNaN(track.values[at])) {
        target.fromArray(track.values, at);
        distance = 0.9;
      }
    } else if (body) {
      follower.begin(first, transport.time);
      const high = body.root[frame * 3 + 1];
      // on steps one follows, and down to whoever sits or crawls, above whose hips there is still the body; a character alone may be of any size
      const hips = bodies[0] ? Math.max(high, LOW_M + (1 - LOW_M / STANDS_M) * high) : Math.max(0.3, high);
      target.set(body.root[frame * 3], hips, body.root[frame * 3 + 2]);
      distance *= bodies[0] ? 1 : Math.max(0.4, hips / STANDS_M);
      const aside = Math.max(0, ...characters.map((c) => c.aside));
      target.x += aside / 2; // between them
      distance += 0.9 * (drawn.length - 1) + 0.9 * aside;
    }
    const direction = new THREE.Vector3(
      ...(({ front: [0, 0.12, 1], left: [1, 0.12, 0], above: [0.001, 1, 0.001] } as Record<string, [number, number, number]>)[look.from] ?? [0.45, 0.22, 0.87]),
    ).normalize();
    if (body && look.from !== 'above') {
      const at = frame * body.parents.length * 4;
      direction.applyAxisAngle(UP, 2 * Math.atan2(body.rotation[at + 1], body.rotation[at + 3]));
    }
    c.target.copy(target);
    camera.position.copy(target).addScaledVector(direction, distance);
    c.update();
    invalidate();
  }, [look, first, bodies, drawn.length, characters, markers, selected, transport, camera, invalidate, follower]);

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
      {segments.length > 0 && (
        <instancedMesh key={segments.length} ref={bones} args={[undefined, undefined, segments.length]} frustumCulled={false} raycast={() => null}>
          <cylinderGeometry args={[1, 1, 1, 10]} />
          <meshLambertMaterial />
        </instancedMesh>
      )}
      {markers && (
        <instancedMesh
          key={`m${markerCount}`} ref={dots} args={[undefined, undefined, markerCount]} frustumCulled={false}
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
      <primitive object={trail.line} />
      <primitive object={proposal} />
      <mesh ref={spirit} visible={false} raycast={() => null}>
        <sphereGeometry args={[0.014, 12, 10]} />
        <meshBasicMaterial color={theme.text} wireframe />
      </mesh>
      {uncertainty && unsure && <UncertainJoints uncertainty={uncertainty} body={unsure} transport={transport} />}
      {threads && bodies[0] && characters[0] && (
        <ThreadLines threads={threads} performer={bodies[0]} character={characters[0].motion.levels} aside={characters[0].aside} transport={transport} controls={controls}
          onName={(name, x, y) => onName({ name, x, y })} onLeave={() => onName(null)} />
      )}
      {skins.map(({ skin, aside }, i) => <group key={i} position={[aside, 0, 0]}><primitive object={skin.object} /></group>)}
      {frames.map((object, i) => <primitive key={props[i].name} object={object} />)}
    </>
  );
}

const STANDS_M = 0.92; // hips of somebody who stands
const LOW_M = 0.3; // as low as a view looks of a body on the floor
const STICKS = 'otrevo sticks'; // how this person likes bodies drawn
const NO_BALLS = 'otrevo no uncertainty';
const STANDS = 'otrevo no following';
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
    background: ${(p) => p.theme.ground}b0; /* a head may be behind it */
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

export type StageViewProps = Omit<SceneProps, 'look' | 'follow' | 'onHover' | 'onName' | 'volume'> & { caption: string };

/** The 3D view: solved bodies over named markers, in step with the transport. */
export function StageView({ caption, ...scene }: StageViewProps) {
  const [look, setLook] = useState({ from: 'three-quarter', count: 0 });
  const [hover, setHover] = useState<{ marker: number; x: number; y: number } | null>(null);
  const [named, setNamed] = useState<{ name: string; x: number; y: number } | null>(null);
  const [sticks, setSticks] = useState(() => window.localStorage.getItem(STICKS) === 'yes');
  const draw = (as: boolean) => {
    window.localStorage.setItem(STICKS, as ? 'yes' : 'no');
    setSticks(as);
  };
  const [balls, setBalls] = useState(() => window.localStorage.getItem(NO_BALLS) !== 'yes');
  const drawBalls = (on: boolean) => {
    window.localStorage.setItem(NO_BALLS, on ? 'no' : 'yes');
    setBalls(on);
  };
  const [follow, setFollow] = useState(() => window.localStorage.getItem(STANDS) !== 'yes');
  const from = (name: string) => setLook((l) => ({ from: name, count: l.count + 1 }));
  const goAlong = (on: boolean) => {
    window.localStorage.setItem(STANDS, on ? 'no' : 'yes');
    setFollow(on);
    if (on) setLook((l) => ({ from: l.from === 'selection' ? 'three-quarter' : l.from, count: l.count + 1 })); // to where they are now
  };
  useEffect(() => {
    const frame = () => from('selection');
    window.addEventListener('otrevo-frame-selection', frame);
    return () => window.removeEventListener('otrevo-frame-selection', frame);
  }, []);
  return (
    <Wrap aria-label="3D view" role="group">
      <Canvas frameloop="demand" dpr={FULL} gl={{ antialias: !software, alpha: false, stencil: false }} camera={{ fov: 38, near: 0.05, far: 60, position: [1.5, 1.6, 3] }} onPointerMissed={() => scene.onSelect(null)}>
        <Scene {...scene} uncertainty={balls ? scene.uncertainty : null} volume={!sticks} look={look} follow={follow} onHover={setHover} onName={setNamed} />
      </Canvas>
      <Overlay>
        <span>{caption}</span>
        <WordButton onPress={() => draw(!sticks)} aria-pressed={sticks} $on={sticks}>Sticks</WordButton>
        {scene.uncertainty && <WordButton onPress={() => drawBalls(!balls)} aria-pressed={balls} $on={balls}>Uncertainty</WordButton>}
        <WordButton onPress={() => goAlong(!follow)} aria-pressed={follow} $on={follow}>Follow</WordButton>
        <WordButton onPress={() => from('front')}>Front</WordButton>
        <WordButton onPress={() => from('left')}>Left</WordButton>
        <WordButton onPress={() => from('above')}>Above</WordButton>
        <WordButton onPress={() => from('selection')} isDisabled={scene.selected === null}>Frame selection</WordButton>
      </Overlay>
      {named && <Tip style={{ left: named.x + 12, top: named.y - 10 }}>{named.name}</Tip>}
      {hover && <Tip style={{ left: hover.x + 12, top: hover.y - 10 }}>{scene.names[hover.marker] ?? ''}</Tip>}
    </Wrap>
  );
}
