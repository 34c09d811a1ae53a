import { describe, expect, it } from 'vitest';
import { bodiesOn, softJoints } from './rigid-bodies';

describe('rigid bodies', () => {
  it('are on the limbs that the solve proposed until somebody says otherwise', () => {
    expect(bodiesOn(['rb1', 'lantern'], {}, ['hips', ''])).toEqual({ rb1: 'hips', lantern: '' });
    expect(bodiesOn(['rb1', 'rb2'], { rb2: 'leftHand' }, ['hips', 'chest'])).toEqual({ rb1: '', rb2: 'leftHand' });
    expect(bodiesOn(['rb1'], {}, [])).toEqual({ rb1: '' });
  });

  it('leave joints between them to their stiffness, but not the hips and the toes', () => {
    expect(softJoints(['hips', 'spine', 'chest', 'leftToes', 'leftShoulder'], { a: 'chest', b: '' })).toEqual(['spine', 'leftShoulder']);
  });
});
