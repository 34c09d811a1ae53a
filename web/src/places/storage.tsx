import { useState } from 'react';
import { useNavigate, useParams } from 'react-router';
import styled from 'styled-components';
import type { Me } from '../api/client';
import { Empty, Figure, Quiet, tableLook, Trouble, WordButton } from '../parts/controls';
import { Frame } from '../parts/frame';
import { Removed, sizeWords } from '../parts/removed';
import { Sure } from '../parts/sure';
import { useBoard } from '../queries/production';
import { useRemovals, useStorage, type Storage } from '../queries/storage';
import { paper } from '../theme';

const Page = styled.div`
  padding: 20px 28px 40px;
  max-width: 1120px;
  h1 {
    font-size: 22px;
    margin: 0 0 4px;
  }
  h2 {
    font-size: 17px;
    margin: 26px 0 8px;
  }
  table {
    ${tableLook}
    td,
    th {
      padding: 6px 14px 6px 0;
      &:last-child {
        padding-right: 0;
      }
    }
  }
`;

const Figures = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 28px;
  margin: 10px 0 4px;
  small {
    display: block;
    color: ${(p) => p.theme.quiet};
  }
`;

/** A size and a bar that compares it with the largest. */
const Size = styled.td<{ $share: number }>`
  width: 34%;
  > div {
    display: grid;
    grid-template-columns: 74px 1fr;
    align-items: center;
    gap: 10px;
  }
  > div > i {
    display: block;
    height: 6px;
    width: ${(p) => Math.max(p.$share > 0 ? 0.6 : 0, 100 * p.$share)}%;
    background: ${(p) => p.theme.quiet};
  }
`;

type Slate = Storage['days'][number]['slates'][number];
const sum = (slate: Slate): number => slate.takes.reduce((n, t) => n + t.bytes, 0);

function Bar({ bytes, most }: { bytes: number; most: number }) {
  return <Size $share={bytes / Math.max(most, 1)}><div><Figure style={{ textAlign: 'right' }}>{sizeWords(bytes)}</Figure><i /></div></Size>;
}

function SlateRows({ slate, most, may, days, onRemove }: {
  slate: Slate; most: number; may: boolean; days: string; onRemove: (what: 'take' | 'slate', id: number) => void;
}) {
  const [open, setOpen] = useState(false);
  const needed = slate.takes.find((t) => t.needed_by)?.needed_by;
  return (
    <>
      <tr>
        <td style={{ width: 90 }}><strong>{slate.name}</strong></td>
        <td style={{ overflowWrap: 'anywhere' }}>
          {slate.title}{' '}
          {slate.takes.length > 0
            ? <WordButton onPress={() => setOpen(!open)} aria-expanded={open} aria-label={`Takes of slate ${slate.name}`}>{slate.takes.length} take{slate.takes.length === 1 ? '' : 's'}</WordButton>
            : <Quiet>no take</Quiet>}
        </td>
        <Bar bytes={sum(slate)} most={most} />
        <td style={{ textAlign: 'right' }}>
          {may && (needed ? <Quiet>in package {needed}</Quiet> : (
            <Sure words="remove" label={`Remove slate ${slate.name}`} question={`Slate ${slate.name} goes with all its takes. It can be brought back for ${days}.`} yes="Remove it" onYes={() => onRemove('slate', slate.id)} />
          ))}
        </td>
      </tr>
      {open && slate.takes.map((t) => (
        <tr key={t.id}>
          <td />
          <td>take <Figure>{t.number}</Figure> <Quiet>{t.status === 'open' ? '' : t.status}</Quiet></td>
          <Bar bytes={t.bytes} most={most} />
          <td style={{ textAlign: 'right' }}>
            {may && (t.needed_by ? <Quiet>in package {t.needed_by}</Quiet> : (
              <Sure words="remove" label={`Remove take ${t.number} of slate ${slate.name}`} question={`Take ${t.number} of slate ${slate.name} can be brought back for ${days}.`} yes="Remove it" onYes={() => onRemove('take', t.id)} />
            ))}
          </td>
        </tr>
      ))}
    </>
  );
}

/** How much room a production has, and what was removed from it. */
export function StoragePage({ me }: { me: Me }) {
  const production = Number(useParams().production);
  const navigate = useNavigate();
  const board = useBoard(production);
  const storage = useStorage(production);
  const { remove, bringBack, deleteNow } = useRemovals();
  const role = me.memberships.find((m) => m.production_id === production)?.role;
  const may = role === 'technician' || role === 'supervisor';
  const supervises = role === 'supervisor';
  const name = board.data?.production.name ?? '…';
  const held = storage.data;
  const slates = held?.days.flatMap((d) => d.slates) ?? [];
  const takes = slates.reduce((n, s) => n + sum(s), 0);
  const most = Math.max(...slates.map(sum), 1);
  const days = held ? (held.waiting_days === 1 ? 'a day' : `${held.waiting_days} days`) : 'some days';
  return (
    <Frame theme={paper} me={me} productionId={production} cells={[{ what: 'production', value: name }, { what: 'storage', value: held ? sizeWords(takes + held.room + held.packages + held.characters) : '…' }]}>
      <Page>
        <h1>Storage</h1>
        {storage.isPending && <Quiet>Measuring…</Quiet>}
        <Trouble error={storage.error ?? remove.error ?? bringBack.error ?? deleteNow.error} />
        {held && (
          <>
            <Figures>
              {([['takes', takes], ['calibrating the stage', held.room], ['packages', held.packages], ['characters', held.characters], ['free on the disk', held.free_bytes]] as const).map(([words, bytes]) => (
                <div key={words}><small>{words}</small><Figure>{sizeWords(bytes)}</Figure></div>
              ))}
            </Figures>
            {slates.length === 0 && <Empty style={{ marginTop: 20 }}><h2>Nothing is kept yet</h2><p>Sizes appear here with the first take.</p></Empty>}
            {[...held.days].reverse().map((day) => (
              <section key={day.id} aria-label={`Day ${day.number}`}>
                <h2 style={{ display: 'flex', gap: 14, alignItems: 'baseline' }}>
                  Day {day.number} <Figure style={{ fontSize: 13, fontWeight: 400 }}>{sizeWords(day.slates.reduce((n, s) => n + sum(s), 0))}</Figure>
                  {supervises && (
                    <span style={{ marginLeft: 'auto', fontSize: 14, fontWeight: 400 }}>
                      <Sure words="remove the day" label={`Remove day ${day.number}`} question={`Day ${day.number} goes with all its slates and takes. It can be brought back for ${days}.`} yes="Remove it" onYes={() => remove.mutate({ what: 'day', id: day.id })} />
                    </span>
                  )}
                </h2>
                <table aria-label={`Slates of day ${day.number}`}>
                  <tbody>
                    {day.slates.map((s) => <SlateRows key={s.id} slate={s} most={most} may={may} days={days} onRemove={(what, id) => remove.mutate({ what, id })} />)}
                  </tbody>
                </table>
                {day.slates.length === 0 && <Quiet>No slates.</Quiet>}
              </section>
            ))}
            {held.removals.length > 0 && (
              <section aria-label="Removed">
                <h2>Removed</h2>
                <Removed removals={held.removals} onBringBack={(id) => bringBack.mutate(id)} onDelete={supervises ? (id) => deleteNow.mutate(id) : undefined} />
              </section>
            )}
            {supervises && (
              <p style={{ marginTop: 30 }}>
                <Sure words="Remove the whole production" label="Remove the whole production" question={`${name} disappears for everybody. An administrator can bring it back for ${days}.`} yes="Remove all of it"
                  onYes={() => remove.mutate({ what: 'production', id: production }, { onSuccess: () => navigate('/') })} />{' '}
                <Quiet style={{ marginLeft: 12 }}>An administrator can write it to a file first: ./otrevo archive</Quiet>
              </p>
            )}
          </>
        )}
      </Page>
    </Frame>
  );
}
