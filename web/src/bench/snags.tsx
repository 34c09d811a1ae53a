import { useEffect, useRef } from 'react';
import { Link, useParams } from 'react-router';
import styled from 'styled-components';
import type { SnagOut } from '../api/client';
import { Figure, MainButton, PlainButton, Quiet, WordButton } from '../parts/controls';

const Wrap = styled.section`
  display: flex;
  flex-direction: column;
  min-height: 0;
  height: 100%;
  background: ${(p) => p.theme.raised};
  border-left: 1px solid ${(p) => p.theme.hairline};
  > header {
    display: flex;
    justify-content: space-between;
    align-items: baseline;
    padding: 8px 14px;
    border-bottom: 1px solid ${(p) => p.theme.hairline};
    h2 {
      margin: 0;
      font-size: 13.5px;
    }
  }
  > ol {
    margin: 0;
    padding: 0;
    list-style: none;
    overflow-y: auto;
    flex: 1;
  }
`;

const Item = styled.li<{ $on: boolean; $mended: boolean }>`
  display: grid;
  grid-template-columns: 54px 1fr auto;
  gap: 4px 10px;
  padding: 8px 12px 8px 11px;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  border-left: 3px solid ${(p) => (p.$on ? p.theme.selection : 'transparent')};
  background: ${(p) => (p.$on ? p.theme.picked : 'transparent')};
  opacity: ${(p) => (p.$mended ? 0.55 : 1)};
  cursor: default;
`;

const Worse = styled.div`
  height: 4px;
  background: ${(p) => p.theme.hairline};
  margin-top: 3px;
  > div {
    height: 100%;
    background: ${(p) => p.theme.wrong};
  }
`;

const Acts = styled.div`
  grid-column: 1 / -1;
  display: flex;
  gap: 10px;
  align-items: center;
  padding-top: 3px;
`;

const WAYS: Record<string, string> = {
  curve: 'A cubic curve through both ends; best for short gaps.',
  body: 'From the solved body, the slip of the skin eased from end to end; best for long gaps.',
};

const Times = styled.div`
  grid-column: 2 / -1;
  display: flex;
  flex-wrap: wrap;
  gap: 2px 12px;
  max-height: 76px; /* three rows, so that none is cut */
  overflow-y: auto;
  padding-bottom: 4px;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
`;

export type SnagGroup = { key: string; snags: SnagOut[] };

/** Whether a snag changes no joint of the body by more than is acceptable. */
export const isSmall = (s: SnagOut): boolean => typeof s.damage_mm === 'number' && s.severity < 1 && !s.mended;

const TOGETHER_S = 0.15; // markers that go and come back within so much of each other were hidden by one thing
const MANY = 3;

/** Of the gaps among snags, which are of one moment in which many markers were gone: by snag, the first of those gaps. */
function together(snags: SnagOut[]): Map<SnagOut, SnagOut> {
  const moments: SnagOut[][] = [];
  for (const s of snags.filter((o) => o.kind === 'gap' && !isSmall(o))) {
    const same = moments.find(([o]) => o.performer === s.performer && o.mended === s.mended && Math.abs(o.start_s - s.start_s) < TOGETHER_S && Math.abs(o.end_s - s.end_s) < TOGETHER_S);
    if (same) same.push(s);
    else moments.push([s]);
  }
  return new Map(moments.filter((m) => m.length >= MANY).flatMap((m) => m.map((s) => [s, m[0]])));
}

/**
 * Gaps of one marker are one entry, those of many markers that were gone at once are one, and so are all snags that hardly
 * change the body, whatever they are; everything else stands alone. Worst first, as the snags come.
 */
export function grouped(snags: SnagOut[]): SnagGroup[] {
  const groups = new Map<string, SnagGroup>();
  const moments = together(snags);
  snags.forEach((s, i) => {
    const at = moments.get(s);
    const key = isSmall(s) ? `small:${s.performer}:${s.proposal ? 'fill' : 'look'}`
      : at ? `together:${s.performer}:${at.start_s}:${at.end_s}:${s.mended}`
      : s.kind === 'gap' ? `gap:${s.performer}:${s.subject}:${s.mended}` : `${s.kind}:${i}`;
    const group = groups.get(key);
    if (group) group.snags.push(s);
    else groups.set(key, { key, snags: [s] });
  });
  return [...groups.values()];
}

export function sameKind(a: SnagOut, b: SnagOut): boolean {
  return a.kind === b.kind && a.proposal?.kind === b.proposal?.kind && Boolean(a.proposal) === Boolean(b.proposal);
}

/** The proposal as it is, or by the way the technician chose instead. */
export function proposalBy(snag: SnagOut, method: string | null): SnagOut['proposal'] | null {
  return snag.proposal && method ? { ...snag.proposal, method } : (snag.proposal ?? null);
}

/** Whether the snags of an entry are about several markers, so that each says which. */
const isMixed = (group: SnagGroup): boolean => group.snags.some((s) => s.subject !== group.snags[0].subject);

/** What an entry says; with what `timesOf` says of each of its snags, all their subjects are named. */
export function wordsOf(group: SnagGroup): string {
  const [worst] = group.snags;
  if (group.key.startsWith('small') && group.snags.length > 1)
    return `${isMixed(group) ? '' : `${worst.subject}: `}${group.snags.length} that change no joint by more than ${worst.limit.split(' at')[0]}`;
  if (group.key.startsWith('together')) return `${group.snags.length} markers gone at once for ${(worst.end_s - worst.start_s).toFixed(2)} s`;
  return group.snags.length === 1 ? worst.text : `${worst.subject}: ${group.snags.length} gaps, longest ${(worst.end_s - worst.start_s).toFixed(2)} s`;
}

/** Where one snag of an entry with several is. */
export const timesOf = (s: SnagOut, group: SnagGroup): string =>
  `${isMixed(group) ? `${s.subject}, ` : ''}${s.start_s.toFixed(1)} s, ${(s.end_s - s.start_s).toFixed(2)} long`;

type Props = {
  groups: SnagGroup[];
  selected: number;
  member: number;
  method: string | null;
  labelOf: (seconds: number) => string;
  /** How many performers are in the take: with several, a snag says whose it is. */
  people: number;
  /** Whether any pass has looked at the take yet. */
  looked: boolean;
  onSelect: (group: number, member?: number) => void;
  onMethod: (method: string) => void;
  onAccept: (snags: SnagOut[]) => void;
};

/** All that is wrong, worst first; the selected one offers its proposal. */
export function SnagList({ groups, selected, member, method, labelOf, people, looked, onSelect, onMethod, onAccept }: Props) {
  const { production, take } = useParams();
  const snags = groups.flatMap((g) => g.snags);
  const open = snags.filter((s) => !s.mended);
  const list = useRef<HTMLOListElement>(null);
  useEffect(() => {
    list.current?.querySelector('[aria-current="true"]')?.scrollIntoView({ block: 'nearest' });
  }, [selected]);
  return (
    <Wrap aria-label="Snags">
      <header>
        <h2>Snags, worst first</h2>
        <Quiet title="Those that are worse than acceptable, and all that were found.">
          {open.filter((s) => s.severity >= 1).length} worth a look · {open.length} of {snags.length} left
        </Quiet>
      </header>
      <ol ref={list}>
        {groups.map((group, i) => {
          const on = i === selected;
          const s = group.snags[on ? Math.min(member, group.snags.length - 1) : 0];
          const worst = group.snags[0];
          const alike = s.proposal ? open.filter((o) => sameKind(o, s)) : [];
          const way = method ?? String(s.proposal?.method);
          return (
            <Item key={group.key} $on={on} $mended={s.mended} aria-current={on} onClick={() => !on && onSelect(i)}>
              <div>
                <Figure title={`${worst.severity.toFixed(2)} times the limit: ${worst.limit}`}>{s.mended ? '✓' : typeof worst.damage_mm === 'number' ? `${worst.damage_mm.toFixed(worst.damage_mm < 10 ? 1 : 0)} mm` : `${worst.severity.toFixed(1)}×`}</Figure>
                {!s.mended && (
                  <Worse>
                    <div style={{ width: `${Math.min(100, (worst.severity / Math.max(snags[0].severity, 3)) * 100)}%` }} />
                  </Worse>
                )}
              </div>
              <div style={{ minWidth: 0 }}>{s.character ? <Quiet>{s.character} · </Quiet> : people > 1 && s.performer && <Quiet>{s.performer} · </Quiet>}{wordsOf(group)}</div>
              <Quiet as={Figure} style={{ fontSize: 11.5 }}>{labelOf(s.start_s)}</Quiet>
              {on && group.snags.length > 1 && (
                <Times role="group" aria-label="Where it happens">
                  {group.snags.map((o, k) => (
                    <WordButton key={`${o.subject} ${o.start_s}`} $on={k === member} aria-pressed={k === member} onPress={() => onSelect(i, k)}>
                      <Figure style={{ fontSize: 11.5 }}>{timesOf(o, group)}</Figure>
                    </WordButton>
                  ))}
                </Times>
              )}
              {on && (
                <>
                  <Quiet style={{ gridColumn: '2 / -1' }}>
                    {s.mended
                      ? 'Mended; undo takes it back.'
                      : s.proposal
                        ? `${s.proposal.kind === 'fill' ? 'Fill' : 'Cut these samples and fill'}. ${WAYS[way] ?? ''}`
                        : s.kind === 'camera moved'
                          ? 'Place the camera anew from this take, then rebuild it.'
                          : `Acceptable is ${s.limit}. Nothing is proposed: look, and re-run the pass or note it.`}
                  </Quiet>
                  {s.kind === 'camera moved' && (
                    <Acts><Link to={`/p/${production}/stage/trust?take=${take}&camera=${s.subject}`}>Show it in Stage, Trust</Link></Acts>
                  )}
                  {s.proposal && !s.mended && (
                    <>
                      <Acts role="group" aria-label="Way to fill">
                        {Object.keys(WAYS).map((m) => (
                          <WordButton key={m} $on={m === way} aria-pressed={m === way} onPress={() => onMethod(m)}>by {m}</WordButton>
                        ))}
                        <Quiet>dotted in view and lanes</Quiet>
                      </Acts>
                      <Acts>
                        <MainButton onPress={() => onAccept([s])}>Accept</MainButton>
                        {group.snags.length > 1 && (
                          <PlainButton onPress={() => onAccept(group.snags)}>All {group.snags.length} here</PlainButton>
                        )}
                        {alike.length > group.snags.length && (
                          <PlainButton onPress={() => onAccept(alike)}>All {alike.length} like this</PlainButton>
                        )}
                      </Acts>
                    </>
                  )}
                </>
              )}
            </Item>
          );
        })}
        {snags.length === 0 && <li style={{ padding: 18 }}><Quiet>{looked ? 'No snags: nothing in this take is worse than its limit.' : 'No pass has looked at this take yet.'}</Quiet></li>}
      </ol>
    </Wrap>
  );
}
