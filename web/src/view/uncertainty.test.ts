import { describe, expect, it } from 'vitest';
import { placesOf } from './uncertainty';

describe('places of uncertain joints', () => {
  it('finds a body’s bones by name, whatever their order', () => {
    expect(placesOf(['head', 'leftHand', 'tail'], ['hips', 'leftHand', 'head'])).toEqual([2, 1, -1]);
  });
});
