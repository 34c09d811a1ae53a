import { Canvas, useThree } from '@react-three/fiber';
import { useEffect, useMemo, useRef, useState } from 'react';
import styled, { useTheme } from 'styled-components';
import * as THREE from 'three';
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js';
import { GLTFLoader, type GLTF } from 'three/examples/jsm/loaders/GLTFLoader.js';
import { Trouble } from '../parts/controls';
import type { Transport } from '../time/transport';
import { morphsOf } from './morphs';
import { Pace } from './pace';
import type { Upright } from './skin';
import { FULL, software } from './software';

const Wrap = styled.div`
  position: relative;
  width: 100%;
  height: 100%;
  min-height: 0;
`;

const Words = styled.p`
  position: absolute;
  inset: auto 0 0 0;
  margin: 0;
  padding: 8px 12px;
  color: ${(p) => p.theme.quiet};
  font-size: 12px;
`;

/** A character at rest or with its animation, lit from a window; the animation follows the transport. */
function Scene({ gltf, upright, transport, start }: { gltf: GLTF; upright: Upright; transport: Transport; start: number }) {
  const { camera, gl, invalidate, setDpr } = useThree();
  const theme = useTheme();
  const group = useRef<THREE.Group>(null);
  const controls = useRef<OrbitControls | null>(null);
  const floor = useMemo(() => {
    const lines = new THREE.GridHelper(6, 12, theme.hairline, theme.hairline);
    lines.position.y = 0.001;
    return lines;
  }, [theme.hairline]);
  const morphs = useMemo(() => morphsOf(gltf.scene), [gltf]);
  useEffect(() => {
    const made = new OrbitControls(camera, gl.domElement);
    made.addEventListener('change', () => invalidate());
    controls.current = made;
    return () => made.dispose();
  }, [camera, gl, invalidate]);
  useEffect(() => {
    const [x, y, z, w] = upright.rotation_xyzw;
    const holder = group.current!;
    holder.quaternion.set(x, y, z, w);
    holder.scale.setScalar(upright.scale);
    const mixer = new THREE.AnimationMixer(gltf.scene);
    const clip = gltf.animations.at(-1);
    if (clip) mixer.clipAction(clip).setLoop(THREE.LoopOnce, 1).play().clampWhenFinished = true;
    gltf.scene.traverse((o) => {
      o.frustumCulled = false; // a skin's box is that of its rest pose
    });
    mixer.setTime(0);
    holder.updateMatrixWorld(true);
    const box = new THREE.Box3();
    const at = new THREE.Vector3();
    gltf.scene.traverse((o) => {
      if (o instanceof THREE.Bone) box.expandByPoint(o.getWorldPosition(at));
    });
    const height = box.isEmpty() ? 1.8 : Math.max(box.max.y, 0.3);
    const middle = box.isEmpty() ? at.set(0, 0.9, 0) : box.getCenter(at);
    controls.current?.target.set(middle.x, height * 0.58, middle.z); // room for raised arms
    camera.position.set(middle.x + height * 1.0, height * 0.95, middle.z + height * 2.5);
    controls.current?.update();
    const pace = new Pace();
    const stop = transport.subscribe((time) => {
      mixer.setTime(Math.max(0, time - start));
      for (const one of morphs) one.apply();
      setDpr(FULL * (transport.speed !== 0 ? pace.next(performance.now()) : pace.stop()));
      invalidate();
    });
    return () => {
      stop();
      mixer.stopAllAction();
      mixer.uncacheRoot(gltf.scene);
    };
  }, [gltf, morphs, upright, transport, start, camera, invalidate, setDpr]);
  return (
    <>
      <color attach="background" args={[theme.raised]} />
      <hemisphereLight args={['#ffffff', theme.quiet, 1.6]} />
      <directionalLight position={[2, 4, 3]} intensity={1.8} />
      <primitive object={floor} />
      <group ref={group}>
        <primitive object={gltf.scene} />
      </group>
    </>
  );
}

/** A character's file, drawn with its own skin. `bytes`: the file; `start`: the time of its first frame on the transport. */
export function CharacterView({ bytes, upright, transport, start = 0, label, caption }: { bytes: ArrayBuffer; upright: Upright; transport: Transport; start?: number; label: string; caption: string }) {
  const [gltf, setGltf] = useState<GLTF | null>(null);
  const [error, setError] = useState('');
  useEffect(() => {
    let here = true;
    setGltf(null);
    setError('');
    new GLTFLoader().parseAsync(bytes.slice(0), '').then(
      (made) => here && setGltf(made),
      () => here && setError('This browser cannot draw the file; the file itself is as it was read back.'),
    );
    return () => {
      here = false;
    };
  }, [bytes]);
  if (error) return <Trouble error={error} />;
  return (
    <Wrap role="img" aria-label={label}>
      {gltf ? (
        <Canvas frameloop="demand" dpr={FULL} gl={{ antialias: !software, alpha: false, stencil: false }} camera={{ fov: 36, near: 0.05, far: 80 }}>
          <Scene gltf={gltf} upright={upright} transport={transport} start={start} />
        </Canvas>
      ) : (
        <Words style={{ inset: '0 0 auto 0' }}>Unpacking the character…</Words>
      )}
      <Words>{caption}</Words>
    </Wrap>
  );
}
