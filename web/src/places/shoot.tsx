import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useEffect, useMemo, useRef, useState } from 'react';
import { DropZone, FileTrigger, ToggleButton, ToggleButtonGroup, type Key } from 'react-aria-components';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import styled from 'styled-components';
import { patch, post, ServerError, type Me, type SlateRow, type TakeRow } from '../api/client';
import { Thumbnail } from '../lanes/thumbnail';
import { Choice } from '../parts/choices';
import { Empty, Figure, PlainButton, Progress, Quiet, Trouble, WordButton } from '../parts/controls';
import { Frame } from '../parts/frame';
import { History } from '../parts/history';
import { TwoNotes, useNote } from '../parts/note';
import { verdict } from '../parts/verdict';
import { useBoard, useFormats } from '../queries/production';
import { paper } from '../theme';
import { rateWords } from '../time/timecode';
import { NewDay, NewProduction, NewSlate } from './shoot-forms';

const SMALLEST_PICTURE_PX = 96; // one very long take must not make the others unreadable

const Wrap = styled.div`
  padding: 20px 28px 40px;
  max-width: 1480px;
  margin: 0 auto;
`;

const Head = styled.div`
  display: flex;
  gap: 26px;
  align-items: baseline;
  margin-bottom: 14px;
  h1 {
    font-size: 22px;
    margin: 0;
  }
`;

const Box = styled.section`
  background: ${(p) => p.theme.raised};
  border: 1px solid ${(p) => p.theme.hairline};
  margin-bottom: 14px;
  &[data-drop-target] {
    border-color: ${(p) => p.theme.selection};
    background: ${(p) => p.theme.picked};
  }
  > header {
    display: flex;
    align-items: baseline;
    padding: 9px 16px;
    gap: 20px;
    h2 {
      margin: 0;
      font-size: 17px;
      min-width: 48px;
    }
    > :nth-child(2) {
      overflow: hidden;
      text-overflow: ellipsis;
      white-space: nowrap;
    }
    > :last-child {
      margin-left: auto;
      white-space: nowrap;
    }
  }
`;

const Row = styled.div<{ $picked: boolean }>`
  display: grid;
  grid-template-columns: 34px 190px minmax(180px, 1fr) minmax(170px, 300px) 110px;
  gap: 16px;
  align-items: center;
  padding: 4px 16px 4px 13px;
  min-height: 40px;
  border-top: 1px solid ${(p) => p.theme.hairline};
  border-left: 3px solid ${(p) => (p.$picked ? p.theme.selection : 'transparent')};
  background: ${(p) => (p.$picked ? p.theme.picked : 'transparent')};
  > a {
    font-size: 17px;
    text-decoration: none;
  }
  > a:hover {
    text-decoration: underline;
  }
`;

const Marks = styled(ToggleButtonGroup)`
  display: flex;
  gap: 2px;
`;

const Mark = styled(ToggleButton)`
  font: inherit;
  font-size: 12px;
  color: ${(p) => p.theme.quiet};
  background: none;
  border: 1px solid transparent;
  border-radius: 12px;
  padding: 2px 8px;
  cursor: pointer;
  outline: none;
  &[data-hovered] {
    border-color: ${(p) => p.theme.hairline};
  }
  &[data-selected] {
    color: ${(p) => p.theme.text};
    border-color: ${(p) => p.theme.text};
  }
  &[data-focus-visible] {
    outline: 2px solid ${(p) => p.theme.selection};
  }
`;

const Words = styled.div`
  min-width: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
`;

const Note = styled.input`
  font: inherit;
  font-size: 12.5px;
  color: ${(p) => p.theme.quiet};
  background: none;
  border: 0;
  border-bottom: 1px solid transparent;
  width: 100%;
  padding: 0;
  text-overflow: ellipsis;
  &:hover,
  &:focus {
    border-bottom-color: ${(p) => p.theme.hairline};
    outline: none;
    color: ${(p) => p.theme.text};
  }
`;

const Drop = styled(DropZone)`
  border: 1px dashed ${(p) => p.theme.quiet};
  padding: 12px 16px;
  color: ${(p) => p.theme.quiet};
  display: flex;
  gap: 14px;
  align-items: center;
  flex-wrap: wrap;
  &[data-drop-target] {
    border-color: ${(p) => p.theme.selection};
    color: ${(p) => p.theme.text};
    background: ${(p) => p.theme.picked};
  }
`;

const STATUS: [string, string][] = [
  ['circled', '◯ circled'],
  ['hold', 'hold'],
  ['no good', 'NG'],
];

function useChange(productionId: number) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: ({ id, ...change }: { id: number; version: number; status?: string; note?: string }) => patch<TakeRow>(`/takes/${id}`, change),
    onSettled: () => client.invalidateQueries({ queryKey: ['board', productionId] }),
  });
}

function TakeLine({ take, slate, production, picked, longest, onPick }: {
  take: TakeRow; slate: SlateRow; production: number; picked: boolean; longest: number; onPick: () => void;
}) {
  const change = useChange(production);
  const note = useNote(String(take.id), take, (words, version) => change.mutateAsync({ id: take.id, version, note: words }));
  const v = verdict(take.runs);
  const sent = ['accepted', 'returned', 'sent', 'ready'].find((s) => take.packages.includes(s));
  const width = Math.max(SMALLEST_PICTURE_PX, Math.round((460 * take.duration_s) / Math.max(longest, 1)));
  const points = useMemo<[number, number]>(
    () => [take.in_s / Math.max(take.duration_s, 0.01), take.out_s / Math.max(take.duration_s, 0.01)],
    [take.in_s, take.out_s, take.duration_s],
  );
  return (
    <Row $picked={picked} onFocus={onPick} onMouseDown={onPick} data-take={take.id}>
      <Link to={`/p/${production}/bench/${take.id}`} aria-label={`Slate ${slate.name} take ${take.number}, open on the bench`}
        style={take.status === 'no good' ? { textDecoration: 'line-through' } : undefined}>
        <Figure>{take.number}</Figure>
      </Link>
      <Marks
        aria-label={`Status of take ${take.number}`}
        selectionMode="single"
        selectedKeys={[take.status]}
        onSelectionChange={(keys: Set<Key>) => change.mutate({ id: take.id, version: take.version, status: String([...keys][0] ?? 'open') })}
      >
        {STATUS.map(([id, words]) => (
          <Mark key={id} id={id}>{words}</Mark>
        ))}
      </Marks>
      <Thumbnail picture={take.picture} width={width} points={points} />
      <Words>
        <div title={v.words} style={{ overflow: 'hidden', textOverflow: 'ellipsis' }}>{v.words}</div>
        <Note
          aria-label={`Note on take ${take.number}`}
          value={note.text.replaceAll('\n', ' / ')}
          placeholder="note"
          maxLength={2000}
          onChange={(e) => note.type(e.target.value)}
          onBlur={note.save}
          onKeyDown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
        />
        <TwoNotes note={note} />
        {!note.theirs && <Trouble error={note.error ?? (change.error instanceof ServerError && change.error.status === 409 ? change.error : null)} />}
      </Words>
      <div style={{ textAlign: 'right' }} aria-live="polite">
        <span style={{ color: v.tone === 'good' ? paper.good : v.tone === 'wrong' ? paper.wrong : undefined }}>
          {sent ? { accepted: 'accepted ✓', returned: 'sent back', sent: 'handed over', ready: 'packaged' }[sent] : v.state}
        </span>
        {picked && !v.working && <div style={{ fontSize: 12 }}><History takeId={take.id} takeNumber={take.number} /></div>}
        {v.working && <Progress value={take.runs.filter((r) => r.state === 'done').length / Math.max(1, take.runs.length)} words={v.state} />}
      </div>
    </Row>
  );
}

/** on: where they were dropped, which is where one looks for what became of them. */
type Sent = { slate: SlateRow; files: File[]; on: 'slate' | 'zone' };

/** Files that become a take of a slate. */
function useFiles(production: number) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: ({ slate, files }: Sent) => {
      const form = new FormData();
      for (const f of files) form.append('files', f);
      return post<TakeRow>(`/slates/${slate.id}/files`, form);
    },
    onSettled: () => client.invalidateQueries({ queryKey: ['board', production] }),
  });
}

/** Where files are dropped or chosen for a slate of the day; they can be dropped on the slate itself as well. */
function Files({ slates, slate, send, onSlate }: { slates: SlateRow[]; slate: SlateRow | undefined; send: ReturnType<typeof useFiles>; onSlate: (id: number) => void }) {
  const endings = useFormats().data?.dropped ?? [];
  if (!slate) return null;
  return (
    <>
      <Drop
        aria-label={`Drop files on slate ${slate.name}`}
        onDrop={async (e) => {
          const files = await Promise.all(e.items.filter((i) => i.kind === 'file').map((i) => i.getFile()));
          if (files.length) send.mutate({ slate, files, on: 'zone' });
        }}
      >
        {send.isPending ? `Reading files for slate ${send.variables.slate.name}…` : `Drop ${endings.map((e) => e.slice(1).toUpperCase()).join(', ') || 'files'} on a slate, or here, to make a take of`}
        <Choice label="Slate for files" hidden options={slates.map((s) => ({ id: s.id, words: `${s.name} ${s.title}` }))} value={slate.id} onChange={onSlate} style={{ maxWidth: 300 }} />
        <FileTrigger allowsMultiple acceptedFileTypes={endings} onSelect={(list) => list && send.mutate({ slate, files: [...list], on: 'zone' })}>
          <PlainButton isDisabled={send.isPending}>Choose files</PlainButton>
        </FileTrigger>
      </Drop>
      {send.variables?.on === 'zone' && <Trouble error={send.error} />}
    </>
  );
}

export function Shoot({ me }: { me: Me }) {
  const production = Number(useParams().production);
  const navigate = useNavigate();
  const [picked, setPicked] = useState<number | null>(null);
  const [over, setOver] = useState<number | null>(null);
  const send = useFiles(production);
  const [adding, setAdding] = useState<'slate' | 'day' | 'production' | null>(null);
  const [query, setQuery] = useSearchParams();
  const asked = Number(query.get('slate')) || null;
  const [target, setTarget] = useState(asked); // the slate chosen for files, else that of the take that is picked
  const board = useBoard(production, { day: Number(query.get('day')) });
  const list = useRef<HTMLDivElement>(null);
  const shown = board.data?.day?.slates.some((s) => s.id === asked); // a new slate comes a moment after the board that was kept
  useEffect(() => {
    if (shown) document.getElementById(`slate-${asked}`)?.scrollIntoView({ block: 'center' });
  }, [shown, asked]);
  const days = board.data?.days ?? [];
  const day = board.data?.day;
  const goToDay = (number: number) => setQuery({ day: String(number) });
  const role = me.memberships.find((m) => m.production_id === production)?.role;
  const leads = role === 'technician' || role === 'supervisor';
  const takes = day?.slates.flatMap((s) => s.takes) ?? [];
  const longest = Math.max(1, ...takes.map((t) => t.duration_s));
  const slate = day?.slates.find((s) => s.takes.some((t) => t.id === picked)) ?? day?.slates.find((s) => !s.warm_up) ?? day?.slates[0];
  const minutes = takes.reduce((n, t) => n + t.duration_s, 0) / 60;
  const p = board.data?.production;
  const dropped = send.variables?.on === 'slate' ? send.variables : null;
  const onKeyDown = (e: React.KeyboardEvent) => {
    if ((e.target as HTMLElement).tagName === 'INPUT') return;
    if (e.key === 'Enter' && picked !== null && !(e.target as HTMLElement).closest('button')) navigate(`/p/${production}/bench/${picked}`);
    if (e.key !== 'ArrowDown' && e.key !== 'ArrowUp') return;
    const rows = [...(list.current?.querySelectorAll<HTMLElement>('[data-take] > a') ?? [])];
    const at = rows.findIndex((r) => r.parentElement?.dataset.take === String(picked));
    rows[Math.max(0, Math.min(rows.length - 1, at + (e.key === 'ArrowDown' ? 1 : -1)))]?.focus();
    e.preventDefault();
  };
  return (
    <Frame theme={paper} me={me} productionId={production} benchTake={picked ?? undefined}
      cells={[
        { what: 'production', value: p?.name ?? '…' },
        { what: 'shoot day', value: day ? `Day ${day.number}, ${day.stage}` : '…' },
        { what: 'rate', value: p ? rateWords(p.timecode_rate, p.drop_frame) : '…', whole: true },
      ]}>
      <Wrap onKeyDown={onKeyDown} ref={list}>
        <Trouble error={board.error} />
        {board.isPending && <Quiet>Fetching the board…</Quiet>}
        {day && (
          <>
            <Head>
              <h1>Day {day.number}</h1>
              {days.length > 1 && (
                <span role="group" aria-label="Shoot days" style={{ display: 'flex', gap: 10, flexWrap: 'wrap', maxWidth: 420 }}>
                  {days.map((d) => <WordButton key={d.id} $on={d.id === day.id} aria-pressed={d.id === day.id} onPress={() => goToDay(d.number)}><Figure>{d.number}</Figure></WordButton>)}
                </span>
              )}
              <span><Figure>{day.slates.length}</Figure> <Quiet>{day.slates.length === 1 ? 'slate' : 'slates'}</Quiet></span>
              <span><Figure>{takes.length}</Figure> <Quiet>{takes.length === 1 ? 'take' : 'takes'}</Quiet></span>
              <span><Figure>{takes.filter((t) => t.status === 'circled').length}</Figure> <Quiet>circled</Quiet></span>
              <span><Figure>{takes.filter((t) => t.packages.some((s) => s === 'sent' || s === 'accepted')).length}</Figure> <Quiet>handed over</Quiet></span>
              <span><Figure>{minutes.toFixed(1)} min</Figure> <Quiet>rolled</Quiet></span>
              {leads && (
                <span style={{ marginLeft: 'auto', display: 'flex', gap: 18 }}>
                  <Link to={`/p/${production}/storage`} style={{ color: paper.text, textDecoration: 'none', borderBottom: `1px dotted ${paper.quiet}`, padding: '2px 0' }}>Storage</Link>
                  <WordButton onPress={() => setAdding('slate')}>New slate</WordButton>
                  <WordButton onPress={() => setAdding('day')}>New day</WordButton>
                  <WordButton onPress={() => setAdding('production')}>New production</WordButton>
                </span>
              )}
            </Head>
            {adding === 'slate' && <NewSlate dayId={day.id} production={production} onDone={() => setAdding(null)} />}
            {adding === 'day' && (
              <NewDay
                production={production}
                onDone={(number) => {
                  setAdding(null);
                  if (number) goToDay(number);
                }}
              />
            )}
            {adding === 'production' && <NewProduction onDone={() => setAdding(null)} />}
            {me.memberships.length > 1 && (
              <p style={{ marginTop: 0 }}>
                <Quiet>Your productions: </Quiet>
                {me.memberships.map((m) => <Link key={m.production_id} to={`/p/${m.production_id}/${m.role === 'animator' ? 'handover' : 'shoot'}`} style={{ marginRight: 14, fontWeight: m.production_id === production ? 600 : undefined }}>{m.production}</Link>)}
              </p>
            )}
            {day.slates.map((s) => (
              <Box key={s.id} id={`slate-${s.id}`} aria-label={`Slate ${s.name}`} data-drop-target={over === s.id || undefined}
                onDragOver={(e) => {
                  if (!e.dataTransfer.types.includes('Files')) return;
                  e.preventDefault();
                  setOver(s.id);
                }}
                onDragLeave={(e) => !e.currentTarget.contains(e.relatedTarget as Node | null) && setOver(null)}
                onDrop={(e) => {
                  setOver(null);
                  if (!e.dataTransfer.files.length) return; // words that are dragged into a note
                  e.preventDefault();
                  send.mutate({ slate: s, files: [...e.dataTransfer.files], on: 'slate' });
                }}
              >
                <header>
                  <h2>{s.name}</h2>
                  <span>{s.title}</span>
                  <Quiet>
                    {s.performer} · {[...s.kit, ...s.props].join(', ')} · <Link to={`/p/${production}/floor/${s.id}`}>roll on the Floor</Link>
                  </Quiet>
                </header>
                {dropped?.slate.id === s.id && (send.isPending ? <p style={{ margin: '0 16px 10px' }} role="status"><Quiet>Reading {dropped.files.map((f) => f.name).join(', ')}…</Quiet></p> : <Trouble error={send.error} />)}
                {[...s.takes].reverse().map((t) => (
                  <TakeLine key={t.id} take={t} slate={s} production={production} picked={t.id === picked} longest={longest} onPick={() => {
                    setPicked(t.id);
                    setTarget(null);
                  }} />
                ))}
                {s.takes.length === 0 && (
                  <div style={{ padding: '0 16px 12px 84px' }}><Quiet>No take yet. Roll one, or drop its files here.</Quiet></div>
                )}
              </Box>
            ))}
            {day.slates.length === 0 && (
              <Empty>
                <h2>No slates yet</h2>
                <p>Add the first shot of the day; its name becomes the file’s name.</p>
                {leads && <PlainButton onPress={() => setAdding('slate')}>New slate</PlainButton>}
              </Empty>
            )}
            <Files slates={day.slates} slate={day.slates.find((s) => s.id === target) ?? slate} send={send} onSlate={setTarget} />
          </>
        )}
      </Wrap>
    </Frame>
  );
}
