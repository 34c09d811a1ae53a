import type { Schemas } from '../api/client';
import { Figure, Quiet, WordButton } from './controls';
import { Sure } from './sure';

const UNITS = ['kB', 'MB', 'GB', 'TB'];

/** A number of bytes as people say it: 12.4 MB. */
export function sizeWords(bytes: number): string {
  let value = bytes / 1000;
  let unit = 0;
  while (value >= 999.5 && unit < UNITS.length - 1) {
    value /= 1000;
    unit += 1;
  }
  return `${value >= 99.5 || (unit === 0 && value >= 1) || value === 0 ? value.toFixed(0) : value.toFixed(1)} ${UNITS[unit]}`;
}

/** How long it is until then: "in 13 days". */
export function untilWords(due: string, now = Date.now()): string {
  const hours = (new Date(due).getTime() - now) / 3_600_000;
  if (hours <= 0) return 'now';
  if (hours < 1) return 'within the hour';
  const [count, word] = hours < 36 ? [Math.round(hours), 'hour'] : [Math.round(hours / 24), 'day'];
  return `in ${count} ${word}${count === 1 ? '' : 's'}`;
}

const said = (at: string) => new Date(at).toLocaleString('en-GB', { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' });

/** What was removed and can be brought back; onDelete: for those who may delete it at once. */
export function Removed({ removals, whole, onBringBack, onDelete }: {
  removals: Schemas['RemovalOut'][]; whole?: boolean; onBringBack: (id: number) => void; onDelete?: (id: number) => void;
}) {
  return (
    <table aria-label="Removed">
      <thead><tr><th>what</th><th>removed by</th><th>when</th><th style={{ textAlign: 'right' }}>size</th><th>deleted for good</th><th /></tr></thead>
      <tbody>
        {removals.map((r) => (
          <tr key={r.id}>
            <td style={{ overflowWrap: 'anywhere' }}>{whole ? r.production : r.words}</td>
            <td>{r.by || <Quiet>somebody who is gone</Quiet>}</td>
            <td><Figure style={{ fontSize: 12 }}>{said(r.at)}</Figure></td>
            <td style={{ textAlign: 'right' }}><Figure>{sizeWords(r.bytes)}</Figure></td>
            <td>{untilWords(r.due_at)}</td>
            <td style={{ textAlign: 'right', whiteSpace: 'nowrap' }}>
              <WordButton onPress={() => onBringBack(r.id)} aria-label={`Bring back ${whole ? r.production : r.words}`}>bring back</WordButton>{' '}
              {onDelete && untilWords(r.due_at) !== 'now' && (
                <span style={{ marginLeft: 12 }}>
                  <Sure words="delete now" label={`Delete ${whole ? r.production : r.words} now`} question={`Once it is deleted, ${whole ? r.production : r.words} cannot be brought back.`} yes="Delete for good" onYes={() => onDelete(r.id)} />
                </span>
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
