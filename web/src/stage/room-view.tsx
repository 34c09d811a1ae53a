import { Canvas, useThree } from '@react-three/fiber';
import { useEffect, useMemo, useRef } from 'react';
import { useTheme } from 'styled-components';
import * as THREE from 'three';
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js';
import type { Theme } from '../theme';
import type { Camera } from '../optics/lens';
import { ray } from '../optics/lens';

type Props = {
  cameras: Camera[];
  selected: string | null;
  /** Cameras that no longer stand where the calibration says. */
  moved: string[];
  points: number[][];
  /** Where the wand went, drawn thin. */
  trail: number[][];
  /** The point that is picked and the cameras that see it. */
  picked: number | null;
  seers: string[];
  look: string | null;
  onPick: (point: number | null) => void;
};

const FAR = 0.55;
const FAR_SELECTED = 4.5;

function lines(ends: number[], colour: string, opacity = 1): THREE.LineSegments {
  const out = new THREE.LineSegments(
    new THREE.BufferGeometry().setAttribute('position', new THREE.Float32BufferAttribute(ends, 3)),
    new THREE.LineBasicMaterial({ color: colour, transparent: opacity < 1, opacity }),
  );
  out.frustumCulled = false;
  out.raycast = () => null;
  return out;
}

function frustum(c: Camera, far: number): number[] {
  const corners = [[0, 0], [c.width, 0], [c.width, c.height], [0, c.height]].map(([u, v]) => {
    const d = ray(c, Math.min(Math.max(u, 0), c.width), Math.min(Math.max(v, 0), c.height));
    return c.position.map((p, i) => p + far * d[i]);
  });
  const ends: number[] = [];
  corners.forEach((corner, i) => ends.push(...c.position, ...corner, ...corner, ...corners[(i + 1) % 4]));
  const top = corners[0].map((v, i) => (v + corners[1][i]) / 2); // which side is up
  const lift = corners[0].map((v, i) => (v - corners[3][i]) * 0.12);
  ends.push(...corners[0], ...top.map((v, i) => v + lift[i]), ...top.map((v, i) => v + lift[i]), ...corners[1]);
  return ends;
}

function floor(theme: Theme): THREE.LineSegments {
  const ends: number[] = [];
  for (let i = -4; i <= 4; i += 1) ends.push(i, 0, -4, i, 0, 4, -4, 0, i, 4, 0, i);
  return lines(ends, theme.hairline);
}

/** A camera's id on a small card that always faces the viewer. */
function card(text: string, theme: Theme, tone: string): THREE.Sprite {
  const canvas = document.createElement('canvas');
  [canvas.width, canvas.height] = [128, 48];
  const g = canvas.getContext('2d', { willReadFrequently: true })!;
  g.font = `30px ${theme.mono}`;
  g.textAlign = 'center';
  g.fillStyle = tone;
  g.fillText(text, 64, 34);
  const map = new THREE.CanvasTexture(canvas);
  const sprite = new THREE.Sprite(new THREE.SpriteMaterial({ map, depthTest: false }));
  sprite.scale.set(0.62, 0.23, 1);
  sprite.raycast = () => null;
  return sprite;
}

function Scene({ cameras, selected, moved, points, trail, picked, seers, look, onPick }: Props) {
  const theme = useTheme();
  const { camera, gl, size, invalidate } = useThree();
  const controls = useRef<OrbitControls | null>(null);
  const dots = useRef<THREE.InstancedMesh>(null);
  const ground = useMemo(() => floor(theme), [theme]);
  const axes = useMemo(() => lines([0, 0.003, 0, 0, 0.003, 0.7, 0, 0.003, 0.7, -0.1, 0.003, 0.56, 0, 0.003, 0.7, 0.1, 0.003, 0.56, 0, 0, 0, 0, 0.35, 0], theme.text), [theme]);
  const rigs = useMemo(
    () =>
      cameras.map((c) => {
        const [x, y, z] = c.position;
        const tone = moved.includes(c.id) ? theme.wrong : c.id === selected ? theme.selection : seers.includes(c.id) ? theme.good : theme.quiet;
        const label = card(moved.includes(c.id) ? `${c.id} ✕` : c.id, theme, tone);
        label.position.set(x, y + 0.28, z);
        const group = new THREE.Group();
        group.add(lines(frustum(c, FAR), tone), label);
        group.add(lines([x, y, z, x, 0, z, x - 0.08, 0, z, x + 0.08, 0, z, x, 0, z - 0.08, x, 0, z + 0.08], theme.quiet, 0.4)); // where over the floor it hangs
        if (c.id === selected && look === null) group.add(lines(frustum(c, FAR_SELECTED), tone, 0.55));
        group.visible = c.id !== look;
        return group;
      }),
    [cameras, selected, moved, seers, look, theme],
  );
  const path = useMemo(() => {
    const cloud = new THREE.Points(
      new THREE.BufferGeometry().setAttribute('position', new THREE.Float32BufferAttribute(trail.flat(), 3)),
      new THREE.PointsMaterial({ color: theme.good, size: 2, sizeAttenuation: false, transparent: true, opacity: 0.6 }),
    );
    cloud.frustumCulled = false;
    cloud.raycast = () => null;
    return cloud;
  }, [trail, theme]);
  const rays = useMemo(() => {
    const at = picked === null ? undefined : points[picked];
    const ends = at ? cameras.filter((c) => seers.includes(c.id)).flatMap((c) => [...c.position, ...at]) : [];
    return lines(ends, theme.selection, 0.7);
  }, [cameras, points, picked, seers, theme]);

  useEffect(() => {
    const c = new OrbitControls(camera, gl.domElement);
    c.target.set(0, 0.9, 0);
    c.addEventListener('change', () => invalidate());
    controls.current = c;
    return () => c.dispose();
  }, [camera, gl, invalidate]);

  useEffect(() => {
    const mesh = dots.current;
    if (!mesh) return;
    const m = new THREE.Matrix4();
    const plain = new THREE.Color(theme.marker);
    const mine = new THREE.Color(theme.selection);
    points.slice(0, 1024).forEach((p, i) => {
      const s = i === picked ? 0.03 : 0.016;
      m.makeScale(s, s, s).setPosition(p[0], p[1], p[2]);
      mesh.setMatrixAt(i, m);
      mesh.setColorAt(i, i === picked ? mine : plain);
    });
    mesh.count = Math.min(1024, points.length);
    mesh.boundingSphere = new THREE.Sphere(new THREE.Vector3(), 1000);
    mesh.instanceMatrix.needsUpdate = true;
    if (mesh.instanceColor) mesh.instanceColor.needsUpdate = true;
    invalidate();
  }, [points, picked, theme, invalidate]);

  // through a camera: its place, its way of looking, as much of its picture as fits
  useEffect(() => {
    const view = camera as THREE.PerspectiveCamera;
    const c = cameras.find((k) => k.id === look);
    if (controls.current) controls.current.enabled = !c;
    if (c) {
      const r = c.rotation;
      const turn = new THREE.Matrix4().set(r[0], -r[3], -r[6], 0, r[1], -r[4], -r[7], 0, r[2], -r[5], -r[8], 0, 0, 0, 0, 1);
      view.quaternion.setFromRotationMatrix(turn);
      view.position.fromArray(c.position);
      const tall = size.width / size.height < c.width / c.height ? (c.width * size.height) / size.width : c.height;
      view.fov = (2 * Math.atan(tall / 2 / c.lens[1]) * 180) / Math.PI;
    } else if (controls.current) {
      view.fov = 40;
      view.position.set(7.4, 6.4, 10.4);
      view.up.set(0, 1, 0);
      controls.current.target.set(0, 0.9, 0);
      controls.current.update();
    }
    view.updateProjectionMatrix();
    invalidate();
  }, [look, cameras, camera, size, invalidate]);

  useEffect(() => invalidate(), [rigs, path, rays, invalidate]);

  return (
    <>
      <primitive object={ground} />
      <primitive object={axes} />
      <primitive object={path} />
      <primitive object={rays} />
      {rigs.map((rig, i) => <primitive key={cameras[i].id} object={rig} />)}
      <instancedMesh ref={dots} args={[undefined, undefined, 1024]} frustumCulled={false}
        onClick={(e) => { e.stopPropagation(); onPick(e.instanceId ?? null); }}>
        <sphereGeometry args={[1, 10, 8]} />
        <meshBasicMaterial />
      </instancedMesh>
    </>
  );
}

/** The room in three dimensions: cameras with their fields of view, points, and the view through any camera. */
export function RoomView(props: Props) {
  const theme = useTheme();
  return (
    <Canvas frameloop="demand" dpr={1} camera={{ position: [7.4, 6.4, 10.4], fov: 40, near: 0.05, far: 60 }} onPointerMissed={() => props.onPick(null)}
      style={{ background: theme.ground }} aria-label="The room">
      <Scene {...props} />
    </Canvas>
  );
}
