import { describe, expect, it } from 'vitest';
import { missing } from './missing';

describe('what is missing of the installation', () => {
  it('is said by part, and nothing is said where all is well', () => {
    expect(missing({ database: { good: true, words: 'answers' }, disk: { good: true, words: '80 GB free' } })).toBe('');
    expect(missing({ database: { good: true, words: 'answers' }, workers: { good: false, words: 'none has said anything lately' }, recorder: { good: false, words: 'does not answer' } }))
      .toBe('workers: none has said anything lately · recorder: does not answer');
  });
});
