import { describe, expect, it } from 'vitest';
import { ServerError } from '../api/client';
import { both, theirsOf } from './note';

describe('a note that somebody else has changed', () => {
  it('is told from other troubles', () => {
    const refused = new ServerError(409, 'bastian changed the note', { theirs: { note: 'rope slipped' }, by: 'bastian', version: 4 });
    expect(theirsOf(refused)).toEqual({ note: 'rope slipped', by: 'bastian', version: 4 });
    expect(theirsOf(new ServerError(422, 'No.'))).toBeNull();
    expect(theirsOf(new Error('x'))).toBeNull();
  });
  it('joins with mine and loses nothing', () => {
    expect(both('rope slipped', 'good one')).toBe('rope slipped / good one');
    expect(both(' ', 'good one')).toBe('good one');
  });
});
