import { useEffect, useRef } from 'react';
import styled from 'styled-components';
import type { SnagOut } from '../api/client';
import { Figure, MainButton, PlainButton, Quiet } from '../parts/controls';

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
  'fill curve': 'Fill by a cubic curve through both ends.',
  'fill body': 'Fill from the solved body, the slip of the skin eased from end to end.',
  'cut and fill curve': 'Cut these samples and fill by a cubic curve.',
  'cut and fill body': 'Cut these samples and fill from the solved body.',
};

export function sameKind(a: SnagOut, b: SnagOut): boolean {
  const way = (s: SnagOut) => `${s.kind}:${String(s.proposal?.kind)}:${String(s.proposal?.method)}`;
  return way(a) === way(b);
}

type Props = {
  snags: SnagOut[];
  selected: number;
  labelOf: (seconds: number) => string;
  busy: boolean;
  onSelect: (index: number) => void;
  onAccept: (snags: SnagOut[]) => void;
};

/** All that is wrong, worst first; the selected one offers its proposal. */
export function SnagList({ snags, selected, labelOf, busy, onSelect, onAccept }: Props) {
  const open = snags.filter((s) => !s.mended);
  const list = useRef<HTMLOListElement>(null);
  useEffect(() => {
    list.current?.querySelector('[aria-current="true"]')?.scrollIntoView({ block: 'nearest' });
  }, [selected]);
  return (
    <Wrap aria-label="Snags">
      <header>
        <h2>Snags, worst first</h2>
        <Quiet>
          {open.length} of {snags.length} left
        </Quiet>
      </header>
      <ol ref={list}>
        {snags.map((s, i) => {
          const alike = s.proposal ? open.filter((o) => sameKind(o, s)) : [];
          return (
            <Item key={`${s.kind}${s.subject}${s.start_s}${i}`} $on={i === selected} $mended={s.mended} aria-current={i === selected} onClick={() => onSelect(i)}>
              <div>
                <Figure title={`${s.severity.toFixed(2)} times the limit: ${s.limit}`}>{s.mended ? '✓' : `${s.severity.toFixed(1)}×`}</Figure>
                {!s.mended && (
                  <Worse>
                    <div style={{ width: `${Math.min(100, (s.severity / Math.max(snags[0].severity, 3)) * 100)}%` }} />
                  </Worse>
                )}
              </div>
              <div style={{ minWidth: 0 }}>{s.text}</div>
              <Quiet as={Figure} style={{ fontSize: 11.5 }}>{labelOf(s.start_s)}</Quiet>
              {i === selected && (
                <>
                  <Quiet style={{ gridColumn: '2 / -1' }}>
                    {s.mended
                      ? 'Mended; undo takes it back.'
                      : s.proposal
                        ? WAYS[`${String(s.proposal.kind)} ${String(s.proposal.method)}`]
                        : `Acceptable is ${s.limit}. Nothing is proposed: look, and re-run the pass or note it.`}
                  </Quiet>
                  {s.proposal && !s.mended && (
                    <Acts>
                      <MainButton isDisabled={busy} onPress={() => onAccept([s])}>Accept</MainButton>
                      {alike.length > 1 && (
                        <PlainButton isDisabled={busy} onPress={() => onAccept(alike)}>All {alike.length} like this</PlainButton>
                      )}
                      {busy && <Quiet>after the passes</Quiet>}
                    </Acts>
                  )}
                </>
              )}
            </Item>
          );
        })}
        {snags.length === 0 && <li style={{ padding: 18 }}><Quiet>No snags: nothing in this take is worse than its limit.</Quiet></li>}
      </ol>
    </Wrap>
  );
}
