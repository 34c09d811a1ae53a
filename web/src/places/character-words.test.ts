import { describe, expect, it } from 'vitest';
import type { CharacterOut } from '../api/client';
import { inWords } from '../parts/bone-words';
import { foundOut, sharedStart } from './character-words';

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
