import { describe, expect, it } from 'vitest';
import type { SnagOut } from '../api/client';
import { grouped, isSmall, proposalBy, sameKind, timesOf, wordsOf } from './snags';

function snag(change: Partial<SnagOut>): SnagOut {
  return {
    kind: 'gap', stream: 'optical', start_s: 1, end_s: 2, severity: 4, text: 'crown: gap 1.00 s', limit: 'a gap of 0.25 s', subject: 'crown',
    proposal: { kind: 'fill', method: 'body', marker: 'crown', start: 120, end: 240 }, from_pass: 'solve', performer: 'Ines', character: '', mended: false, ...change,
  };
}

describe('the snag list', () => {
  it('folds the gaps of one marker and nothing else', () => {
    const groups = grouped([
      snag({}), snag({ subject: 'heel left' }), snag({ start_s: 5 }), snag({ kind: 'spike', start_s: 6 }), snag({ kind: 'spike', start_s: 7 }),
    ]);
    expect(groups.map((g) => g.snags.length)).toEqual([2, 1, 1, 1]);
    expect(groups[0].snags.map((s) => s.start_s)).toEqual([1, 5]);
  });

  it('folds the gaps of many markers that were gone at once', () => {
    const at = (subject: string, start: number, end: number) => snag({ subject, start_s: start, end_s: end });
    const foot = [at('ankle left', 3, 7), at('crown', 1, 2), at('heel left', 3.05, 6.95), at('toe left', 2.95, 7.1), at('heel left', 9, 9.5), at('toe left', 9, 9.5), at('shin left', 3, 8)];
    const groups = grouped(foot);
    expect(groups.map((g) => g.snags.map((s) => s.subject))).toEqual([['ankle left', 'heel left', 'toe left'], ['crown'], ['heel left'], ['toe left'], ['shin left']]);
    expect(wordsOf(groups[0])).toBe('3 markers gone at once for 4.00 s');
    expect(groups[0].snags.map((s) => timesOf(s, groups[0]))[1]).toContain('heel left');
    const one = grouped([...foot.slice(0, 4), ...foot.slice(0, 4).map((s) => ({ ...s, performer: 'Tomas' })), ...foot.slice(0, 4).map((s) => ({ ...s, mended: true }))]);
    expect(one.map((g) => g.snags.length)).toEqual([3, 1, 3, 1, 3, 1]);
    expect(new Set(one.map((g) => g.key)).size).toBe(6);
  });

  it('keeps mended gaps apart from those still open, and the order of the worst', () => {
    const groups = grouped([snag({ severity: 9 }), snag({ severity: 7, subject: 'shin left' }), snag({ mended: true })]);
    expect(groups.map((g) => [g.snags[0].subject, g.snags[0].mended])).toEqual([['crown', false], ['shin left', false], ['crown', true]]);
    expect(new Set(groups.map((g) => g.key)).size).toBe(3);
  });

  it('lets the way be chosen without touching the proposal', () => {
    const s = snag({});
    expect(proposalBy(s, 'curve')).toEqual({ kind: 'fill', method: 'curve', marker: 'crown', start: 120, end: 240 });
    expect(proposalBy(s, null)).toBe(s.proposal);
    expect(s.proposal?.method).toBe('body');
    expect(proposalBy(snag({ proposal: null }), 'curve')).toBeNull();
  });

  it('calls alike what is mended alike', () => {
    expect(sameKind(snag({}), snag({ subject: 'heel left' }))).toBe(true);
    expect(sameKind(snag({}), snag({ kind: 'spike', proposal: { ...snag({}).proposal!, kind: 'cut and fill' } }))).toBe(false);
    expect(sameKind(snag({}), snag({ proposal: null }))).toBe(false);
  });

  it('folds everything that hardly changes the body into one entry, what can be filled apart from what cannot', () => {
    const small = { damage_mm: 1.2, severity: 0.24, limit: '5 mm at the joints' };
    const groups = grouped([
      snag({ damage_mm: 22, severity: 4.4 }), snag({ ...small }), snag({ ...small, subject: 'heel left' }), snag({ ...small, kind: 'lost limb', proposal: null }),
      snag({ ...small, mended: true }),
    ]);
    expect(groups.map((g) => g.snags.length)).toEqual([1, 2, 1, 1]);
    expect(groups[1].snags.every(isSmall)).toBe(true);
    expect(isSmall(snag({ severity: 0.5 }))).toBe(false); // nobody said what it costs
  });

  it('names in every entry whatever its snags are about', () => {
    const small = { damage_mm: 1.2, severity: 0.24, limit: '5 mm at the joints' };
    const lists = [
      [snag({ ...small }), snag({ ...small, subject: 'heel left' })],
      [snag({ ...small }), snag({ ...small, start_s: 5 })],
      [snag({}), snag({ start_s: 5 })],
      [snag({})],
    ];
    for (const [group] of lists.map(grouped)) {
      const said = [wordsOf(group), ...(group.snags.length > 1 ? group.snags.map((s) => timesOf(s, group)) : [])].join(' ');
      for (const s of group.snags) expect(said).toContain(s.subject);
    }
  });
});
