import { describe, expect, it } from 'vitest';
import type { RunOut } from '../api/client';
import { verdict } from './verdict';

function run(name: string, state: string, figures: object = {}, more: Partial<RunOut> = {}): RunOut {
  return { id: 1, name, state, progress: 0.62, message: '', figures: figures as RunOut['figures'], snag_count: 0, asked_at: '', code_version: '', ...more };
}

describe('verdict', () => {
  it('says how far the work has come', () => {
    const v = verdict([run('record', 'done'), run('line up', 'done', { worst_residual_ms: 0.14 }), run('label', 'running'), run('solve', 'queued')]);
    expect(v).toMatchObject({ words: 'lined up ±0.1 ms', state: 'labelling 62 %', working: true });
  });

  it('counts snags of the solve and the line-up once it is done', () => {
    const v = verdict([run('line up', 'done', {}, { snag_count: 2 }), run('label', 'done', {}, { snag_count: 40 }), run('solve', 'done', { residual_rms_mm: 5.84 }, { snag_count: 7 })]);
    expect(v).toMatchObject({ words: 'solved 5.8 mm · 9 snags', state: 'ready', tone: 'good', working: false });
    expect(verdict([run('solve', 'done', { residual_rms_mm: 2 })]).words).toContain('no snags');
    expect(verdict([run('solve', 'done', { residual_rms_mm: 2 }, { snag_count: 1 })]).words).toContain('1 snag');
  });

  it('gives the reason of a failure before anything else', () => {
    const v = verdict([run('line up', 'done'), run('label', 'failed', {}, { message: 'No T-pose.' }), run('solve', 'cancelled')]);
    expect(v).toMatchObject({ words: 'No T-pose.', state: 'label failed', tone: 'wrong', working: false });
  });

  it('keeps what was reached when the rest was cancelled', () => {
    const v = verdict([run('label', 'done', { named_share: 0.998 }), run('solve', 'cancelled')]);
    expect(v).toMatchObject({ words: 'labelled 99.8 %', state: 'cancelled' });
  });

  it('says a knocked camera before the figures, and that it is wrong', () => {
    const v = verdict([run('rebuild', 'done', { knocked: [{ camera: 'c07' }] }), run('solve', 'done', { residual_rms_mm: 2.4 }, { snag_count: 1 })]);
    expect(v).toMatchObject({ words: '✕ camera c07 was knocked · solved 2.4 mm · 1 snag', tone: 'wrong', state: 'ready' });
    expect(verdict([run('rebuild', 'running')]).state).toBe('rebuilding 62 %');
  });
});
