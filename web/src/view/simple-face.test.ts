import * as THREE from 'three';
import { describe, expect, it } from 'vitest';
import { expression, SimpleFace } from './simple-face';

const face = (values: Record<string, number>) => expression((name) => values[name] ?? 0);

describe('a simple face', () => {
  it('closes one eye and leaves the other', () => {
    const wink = face({ eyeBlinkLeft: 1 });
    expect([wink.left.closed, wink.right.closed]).toEqual([1, 0]);
    expect(face({ eyeBlinkLeft: 0.2, eyeWideLeft: 1 }).left.closed).toBe(0);
  });

  it('looks to one side with both eyes, whichever of them turns inward', () => {
    const look = face({ eyeLookOutLeft: 0.8, eyeLookInRight: 0.8 });
    expect(look.left.aside).toBeGreaterThan(0.3);
    expect(look.right.aside).toBeCloseTo(look.left.aside, 9);
  });

  it('is no larger than a head before anything is known of it', () => {
    const { object } = new SimpleFace({ skin: '#fff', dark: '#000', light: '#eee' });
    expect(new THREE.Box3().setFromObject(object).getSize(new THREE.Vector3()).length()).toBeLessThan(0.2);
  });

  it('opens, widens and rounds the mouth', () => {
    const rest = face({});
    expect(face({ jawOpen: 0.7 }).open).toBe(0.7);
    expect(face({ mouthSmileLeft: 1, mouthSmileRight: 1 }).width).toBeGreaterThan(rest.width);
    expect(face({ mouthPucker: 1 }).width).toBeLessThan(rest.width);
    expect(face({ mouthFrownLeft: 1, mouthFrownRight: 1 }).lift).toBeLessThan(0);
  });
});
