import { describe, expect, it } from 'vitest';
import type { RunOut } from '../api/client';
import { verdict } from './verdict';

const WORDS: Record<string, [string, string]> = {
  record: ['writing', 'written'], rebuild: ['rebuilding', 'rebuilt'], 'line up': ['lining up', 'lined up'], label: ['labelling', 'labelled'], solve: ['solving', 'solved'],
};

function run(name: string, state: string, figure: string | null = null, more: Partial<RunOut> = {}): RunOut {
  const [doing, done] = WORDS[name];
  return {
    id: 1, name, words: name, doing, done, performer: '', character_id: null, character: '', map_version: null, state, progress: 0.62, message: '', knocked: [], aside: '', parameters: {}, snag_count: 0, asked_at: '', code_version: '',
    figure: figure === null ? null : { text: figure, value: 1, good: true, sentence: '' }, ...more,
  };
}

describe('verdict', () => {
  it('says how far the work has come', () => {
    const v = verdict([run('record', 'done'), run('line up', 'done', '±0.1 ms'), run('label', 'running'), run('solve', 'queued')]);
    expect(v).toMatchObject({ words: 'lined up ±0.1 ms', state: 'labelling 62 %', working: true });
  });

  it('counts snags of the solve and the line-up once it is done', () => {
    const v = verdict([run('line up', 'done', '±0.1 ms', { snag_count: 2 }), run('label', 'done', '99.0 %'), run('solve', 'done', '5.8 mm', { snag_count: 7 })]);
    expect(v).toMatchObject({ words: 'solved 5.8 mm · 9 snags', state: 'ready', tone: 'good', working: false });
    expect(verdict([run('solve', 'done', '2.0 mm')]).words).toContain('no snags');
    expect(verdict([run('solve', 'done', '2.0 mm', { snag_count: 1 })]).words).toContain('1 snag');
  });

  it('says what a solve from a suit alone says of itself, which has no figure', () => {
    const v = verdict([run('line up', 'done', '±0.1 ms'), run('solve', 'done', null, { aside: 'from the suit, joints ± 8°', snag_count: 2 })]);
    expect(v).toMatchObject({ words: 'solved from the suit, joints ± 8° · 2 snags', state: 'ready', tone: 'good' });
  });

  it('gives the reason of a failure before anything else', () => {
    const v = verdict([run('line up', 'done'), run('label', 'failed', null, { message: 'No T-pose.' }), run('solve', 'cancelled')]);
    expect(v).toMatchObject({ words: 'No T-pose.', state: 'label failed', tone: 'wrong', working: false });
  });

  it('keeps what was reached when the rest was cancelled', () => {
    const v = verdict([run('label', 'done', '99.8 %'), run('solve', 'cancelled')]);
    expect(v).toMatchObject({ words: 'labelled 99.8 %', state: 'cancelled' });
  });

  it('says a knocked camera before the figures, and that it is wrong', () => {
    const v = verdict([run('rebuild', 'done', '±0.10 mm', { knocked: ['c07'] }), run('solve', 'done', '2.4 mm', { snag_count: 1 })]);
    expect(v).toMatchObject({ words: '✕ camera c07 was knocked · solved 2.4 mm · 1 snag', tone: 'wrong', state: 'ready' });
    expect(verdict([run('rebuild', 'running')]).state).toBe('rebuilding 62 %');
  });
});
