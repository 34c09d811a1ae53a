import { figure, type RunOut } from '../api/client';

export type Verdict = { words: string; state: string; tone: 'good' | 'wrong' | 'plain'; working: boolean };

/** Whether a run is queued or under way. */
export const atWork = (run: { state: string }) => run.state === 'queued' || run.state === 'running';

const WORKING: Record<string, string> = {
  record: 'writing',
  rebuild: 'rebuilding',
  calibrate: 'calibrating',
  'line up': 'lining up',
  label: 'labelling',
  solve: 'solving',
};

/** What a take has come to, from its newest runs: one line for the board and the Floor. */
export function verdict(runs: RunOut[]): Verdict {
  const by = new Map(runs.map((r) => [r.name, r]));
  const failed = runs.find((r) => r.state === 'failed');
  if (failed) return { words: failed.message, state: `${failed.name} failed`, tone: 'wrong', working: false };
  const now = runs.find((r) => r.state === 'running');
  const queued = runs.filter((r) => r.state === 'queued').length;
  const solved = by.get('solve');
  let words = '';
  const rms = figure(solved, 'residual_rms_mm');
  if (solved?.state === 'done' && rms !== null) {
    const snags = runs.reduce((n, r) => (r.name === 'solve' || r.name === 'line up' ? n + r.snag_count : n), 0);
    words = `solved ${rms.toFixed(1)} mm · ${snags === 0 ? 'no snags' : `${snags} snag${snags === 1 ? '' : 's'}`}`;
  } else if (by.get('label')?.state === 'done') {
    words = `labelled ${(100 * (figure(by.get('label'), 'named_share') ?? 0)).toFixed(1)} %`;
  } else if (by.get('line up')?.state === 'done') {
    words = `lined up ±${(figure(by.get('line up'), 'worst_residual_ms') ?? 0).toFixed(1)} ms`;
  }
  const moved = ((by.get('rebuild')?.figures as { knocked?: { camera: string }[] } | undefined)?.knocked ?? []).map((k) => k.camera);
  if (moved.length) words = `✕ camera ${moved.join(', ')} was knocked${words ? ` · ${words}` : ''}`;
  if (now) return { words, state: `${WORKING[now.name] ?? now.name} ${Math.round(now.progress * 100)} %`, tone: 'plain', working: true };
  if (queued) return { words, state: 'queued', tone: 'plain', working: true };
  const cancelled = runs.find((r) => r.state === 'cancelled');
  if (cancelled) return { words: words || cancelled.message, state: 'cancelled', tone: 'plain', working: false };
  return { words, state: solved?.state === 'done' ? 'ready' : '', tone: moved.length ? 'wrong' : 'good', working: false };
}
