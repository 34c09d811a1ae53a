import { useThree } from '@react-three/fiber';
import { useEffect, useMemo, useRef } from 'react';
import { useTheme } from 'styled-components';
import * as THREE from 'three';
import { levelFor, nearestSample, sampleOf, type Levels } from '../api/tracks';
import type { Transport } from '../time/transport';
import { bodyAt, pose, poseBuffers, type BodyLevels } from './pose';

/** How sure a performer's joints are, metres: half of how far off they are at most, 95 times in 100; bones: whose joints, in the order of the track. */
export type Uncertainty = { performer: string; bones: string[]; levels: Levels };

export const WORTH_A_LOOK_M = 0.01; // joints that are surer are not worth a ball

/** The number of each of the bones in a body, -1 where it has none of that name. */
export const placesOf = (bones: string[], body: string[]): number[] => bones.map((b) => body.indexOf(b));

/** A ball around every joint that may be off, as large as it may be. */
export function UncertainJoints({ uncertainty, body, transport }: { uncertainty: Uncertainty; body: BodyLevels; transport: Transport }) {
  const theme = useTheme();
  const { invalidate } = useThree();
  const balls = useRef<THREE.InstancedMesh>(null);
  const { bones, levels } = uncertainty;
  const at = useMemo(() => placesOf(bones, body.whole.bones), [bones, body.whole.bones]);
  const buffers = useMemo(() => poseBuffers(body.whole.bones.length), [body.whole.bones.length]);
  useEffect(() => {
    const m = new THREE.Matrix4();
    return transport.subscribe((time) => {
      const mesh = balls.current;
      if (!mesh) return;
      const now = bodyAt(body, time);
      pose(now, sampleOf(now, time), buffers);
      const track = levelFor(levels, time, time);
      const row = nearestSample(track, time) * track.width;
      for (let i = 0; i < at.length; i += 1) {
        const sd = at[i] < 0 ? 0 : track.values[row + i];
        const size = sd > WORTH_A_LOOK_M ? sd : 0;
        m.makeScale(size, size, size);
        if (size > 0) m.setPosition(buffers.joints[at[i] * 3], buffers.joints[at[i] * 3 + 1], buffers.joints[at[i] * 3 + 2]);
        mesh.setMatrixAt(i, m);
      }
      mesh.instanceMatrix.needsUpdate = true;
      invalidate();
    });
  }, [at, buffers, body, levels, transport, invalidate]);
  return (
    <instancedMesh ref={balls} args={[undefined, undefined, at.length]} frustumCulled={false} renderOrder={4} raycast={() => null}>
      <sphereGeometry args={[1, 16, 12]} />
      <meshBasicMaterial color={theme.wrong} transparent opacity={0.22} depthWrite={false} />
    </instancedMesh>
  );
}
