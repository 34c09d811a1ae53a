import { describe, expect, it } from 'vitest';
import type { CharacterOut } from '../api/client';
import { animationSeconds, foundOut, inWords, sharedStart } from './character-words';

function glb(document: object): ArrayBuffer {
  const text = new TextEncoder().encode(JSON.stringify(document));
  const bytes = new Uint8Array(20 + text.length);
  new DataView(bytes.buffer).setUint32(12, text.length, true);
  bytes.set(text, 20);
  return bytes.buffer;
}

describe('a character in words', () => {
  it('says bones as people do', () => {
    expect(inWords('leftUpperArm')).toBe('left upper arm');
    expect(inWords('hips')).toBe('hips');
  });

  it('finds what all names begin with, up to a separator', () => {
    expect(sharedStart(['hero_rig_Hips', 'hero_rig_Head', 'hero_rig_Hand_L'])).toBe('hero_rig_');
    expect(sharedStart(['crew:Hips', 'crew:Spine', 'crew:Head'])).toBe('crew:');
    expect(sharedStart(['Spine1', 'Spine2', 'Spine3'])).toBe('');
    expect(sharedStart(['Hips', 'Head', 'Neck'])).toBe('');
    expect(sharedStart(['a_b'])).toBe('');
  });

  it('says how the unit is known', () => {
    const character = { units_m: 0.01, unit_evidence: 'detected', up: '+Z', facing: '-Y' } as CharacterOut;
    expect(foundOut(character)).toBe('centimetres, found out from its size · +Z is up, faces -Y');
    expect(foundOut({ ...character, units_m: 0.5, unit_evidence: 'metadata' })).toContain('0.5 m a unit, as the file says');
  });
});

describe('the length of an animation', () => {
  it('is that of the last one', () => {
    const document = {
      animations: [{ samplers: [{ input: 0 }] }, { samplers: [{ input: 1 }] }],
      accessors: [{ max: [3] }, { max: [46.5] }],
    };
    expect(animationSeconds(glb(document))).toBe(46.5);
  });

  it('is nothing where there is none', () => {
    expect(animationSeconds(glb({ accessors: [] }))).toBe(0);
  });
});
