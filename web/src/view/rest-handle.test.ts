import * as THREE from 'three';
import { describe, expect, it } from 'vitest';
import { degreesOf, rotationOf, turnedRest } from './rest-handle';

const near = (a: number[], b: number[]) => a.forEach((v, i) => expect(v).toBeCloseTo(b[i], 6));

describe('a rest pose that is turned by dragging', () => {
  it('takes degrees about the world’s axes and gives them back', () => {
    for (const degrees of [[0, 0, 0], [30, 0, 0], [-12, 95, 40], [0, -170, 3]]) near(degreesOf(rotationOf(degrees)), degrees);
    near(degreesOf(new THREE.Quaternion(0, 0, -Math.sin(0.1), -Math.cos(0.1))), [0, 0, (0.2 * 180) / Math.PI]);
  });

  it('shows the bone where it was dragged to, whatever the performer does there', () => {
    // a bone shows ours · rest turn · rest; after the drag it has to show seen · ours · rest turn · rest
    const [ours, seen, given] = [rotationOf([20, 50, -80]), rotationOf([0, 0, 25]), [5, -10, 15]];
    const after = ours.clone().multiply(rotationOf(turnedRest(given, ours, seen)));
    const wanted = seen.clone().multiply(ours).multiply(rotationOf(given));
    expect(after.angleTo(wanted)).toBeLessThan(1e-6);
  });
});
