import type { RunOut } from '../api/client';

export type Verdict = { words: string; state: string; tone: 'good' | 'wrong' | 'plain'; working: boolean };

/** Whether a run is queued or under way. */
export const atWork = (run: { state: string }) => run.state === 'queued' || run.state === 'running';

/** What a take has come to, from its newest runs: one line for the board and the Floor. Characters follow on their own. */
export function verdict(all: RunOut[]): Verdict {
  const runs = all.filter((r) => r.character_id === null);
  const failed = runs.find((r) => r.state === 'failed');
  if (failed) return { words: failed.message, state: `${failed.words} failed`, tone: 'wrong', working: false };
  const now = runs.find((r) => r.state === 'running');
  const queued = runs.some((r) => r.state === 'queued');
  const said = (r: RunOut) => r.figure?.text ?? r.aside; // from a suit alone a solve has no figure that markers would give
  const told = runs.filter((r) => r.state === 'done' && said(r));
  const last = told.at(-1);
  const whole = last !== undefined && last === runs.at(-1);
  const snags = told.reduce((n, r) => n + r.snag_count, 0);
  let words = last ? `${last.done} ${said(last)}` : '';
  if (whole) words += ` · ${snags === 0 ? 'no snags' : `${snags} snag${snags === 1 ? '' : 's'}`}`;
  const moved = runs.flatMap((r) => r.knocked);
  if (moved.length) words = `✕ camera ${moved.join(', ')} was knocked${words ? ` · ${words}` : ''}`;
  if (now) return { words, state: `${now.doing} ${Math.round(now.progress * 100)} %`, tone: 'plain', working: true };
  if (queued) return { words, state: 'queued', tone: 'plain', working: true };
  const cancelled = runs.find((r) => r.state === 'cancelled');
  if (cancelled) return { words: words || cancelled.message, state: 'cancelled', tone: 'plain', working: false };
  return { words, state: whole ? 'ready' : '', tone: moved.length ? 'wrong' : 'good', working: false };
}
