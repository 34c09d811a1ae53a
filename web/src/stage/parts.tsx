import type { ReactNode } from 'react';
import styled from 'styled-components';
import { Figure, Progress, Quiet, WordButton, fieldLook } from '../parts/controls';
import { atWork } from '../parts/verdict';
import type { StepRun } from '../queries/room';

export const Panel = styled.section`
  padding: 14px 18px 24px;
  overflow: auto;
  min-height: 0;
  h2 {
    margin: 0 0 4px;
    font-size: 17px;
  }
  h3 {
    margin: 18px 0 6px;
    font-size: 13px;
    font-weight: normal;
    color: ${(p) => p.theme.quiet};
  }
  p {
    margin: 0 0 10px;
  }
`;

export const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 10px;
  align-items: center;
  margin: 8px 0;
  label {
    display: flex;
    gap: 8px;
    align-items: center;
  }
  input[type='number'] {
    ${fieldLook}
    padding: 4px 6px;
  }
  input[type='number'] {
    width: 70px;
  }
`;

export const Table = styled.table`
  width: 100%;
  border-collapse: collapse;
  font-variant-numeric: tabular-nums;
  th {
    text-align: right;
    font-weight: normal;
    color: ${(p) => p.theme.quiet};
    font-size: 12px;
    padding: 2px 5px;
    border-bottom: 1px solid ${(p) => p.theme.hairline};
    position: sticky;
    top: 0;
    background: ${(p) => p.theme.ground};
  }
  td {
    text-align: right;
    padding: 2px 5px;
    height: 25px;
    white-space: nowrap;
    font-family: ${(p) => p.theme.mono};
    font-size: 12.5px;
  }
  th:first-child,
  td:first-child {
    text-align: left;
    padding-left: 2px;
  }
  tr[aria-selected='true'] {
    background: ${(p) => p.theme.picked};
  }
  button {
    font: inherit;
    color: inherit;
    background: none;
    border: 0;
    padding: 0;
    cursor: pointer;
    text-decoration: underline dotted;
    text-underline-offset: 3px;
  }
`;

/** A figure with what it is judged by. */
export function Big({ value, unit, words, why }: { value: string; unit?: string; words: string; why?: string }) {
  return (
    <div title={why} style={{ margin: '6px 0' }}>
      <Figure style={{ fontSize: 22 }}>{value}</Figure> {unit}
      <br />
      <Quiet>{words}</Quiet>
    </div>
  );
}

/** A step that is at work, has failed, or nothing. */
export function StepState({ run, onCancel }: { run: StepRun | undefined; onCancel: (id: number) => void }) {
  if (!run || run.state === 'done') return null;
  const active = atWork(run);
  return (
    <div style={{ margin: '10px 0' }} aria-live="polite">
      {active ? (
        <>
          <div style={{ display: 'flex', justifyContent: 'space-between', marginBottom: 4 }}>
            <span>{run.state === 'queued' ? 'queued' : `${run.name}, ${Math.round(100 * run.progress)} %`}</span>
            <WordButton onPress={() => onCancel(run.id)}>cancel</WordButton>
          </div>
          <Progress value={run.progress} words={run.name} />
        </>
      ) : (
        <p role="alert" style={{ borderLeft: '3px solid', paddingLeft: 10 }}>{run.state === 'failed' ? `✕ ${run.message}` : 'Cancelled.'}</p>
      )}
    </div>
  );
}

export function Facts({ rows }: { rows: [string, ReactNode][] }) {
  return (
    <dl style={{ display: 'grid', gridTemplateColumns: 'auto 1fr', gap: '3px 14px', margin: '8px 0' }}>
      {rows.map(([name, value]) => (
        <div key={name} style={{ display: 'contents' }}>
          <dt><Quiet>{name}</Quiet></dt>
          <dd style={{ margin: 0, textAlign: 'right' }}><Figure>{value}</Figure></dd>
        </div>
      ))}
    </dl>
  );
}
