import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useCallback, useEffect, useMemo, useRef, useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import styled from 'styled-components';
import { get, patch, post, type FloorOut, type Me, type RollingOut, type TakeRow } from '../api/client';
import { Thumbnail } from '../lanes/thumbnail';
import { BigButton, Empty, Figure, Progress, Quiet, TextInput, Trouble, WordButton } from '../parts/controls';
import { Frame } from '../parts/frame';
import { both, theirsOf, TwoNotes, useNote, type Written } from '../parts/note';
import { verdict } from '../parts/verdict';
import { DevicesLive } from './devices-live';
import { CamerasLive, type Knocked } from '../stage/cameras-live';
import { night } from '../theme';
import { formatOf, labelAt, labelOfDay, rateWords } from '../time/timecode';
import { useBoard } from '../queries/production';
import { useAsking } from '../queries/push';

const COUNTDOWN_S = 3;
const AUTO_CUT_S = 2400; // a take that nobody cuts

const Wrap = styled.div`
  display: grid;
  grid-template-columns: 230px 1fr 300px;
  height: 100%;
  min-height: 560px;
`;

const Side = styled.div`
  border-right: 1px solid ${(p) => p.theme.hairline};
  padding: 16px 0;
  overflow-y: auto;
  h2 {
    font-size: 12px;
    font-weight: normal;
    color: ${(p) => p.theme.quiet};
    margin: 0 16px 6px;
  }
  a {
    display: block;
    padding: 11px 16px 11px 13px;
    min-height: 44px;
    text-decoration: none;
    border-left: 3px solid transparent;
    outline-offset: -2px; /* the list is as wide as its column */
    &[aria-current='page'] {
      background: ${(p) => p.theme.picked};
      border-left-color: ${(p) => p.theme.selection};
    }
  }
`;

const Middle = styled.div`
  padding: 22px 32px;
  display: flex;
  flex-direction: column;
  gap: 18px;
  min-width: 0;
`;

const Name = styled.div`
  display: flex;
  gap: 28px;
  align-items: baseline;
  h1 {
    margin: 0;
    font-size: 46px;
    line-height: 1.1;
    white-space: nowrap;
  }
`;

const Code = styled.div<{ $rolling: boolean }>`
  color: ${(p) => (p.$rolling ? p.theme.text : p.theme.quiet)};
  font-family: ${(p) => p.theme.mono};
  font-size: 64px;
  line-height: 1;
`;

const State = styled.div<{ $rolling: boolean }>`
  display: flex;
  align-items: center;
  gap: 14px;
  min-height: 92px;
  padding: 0 20px;
  border: ${(p) => (p.$rolling ? `3px solid ${p.theme.wrong}` : `1px solid ${p.theme.hairline}`)};
  font-size: 20px;
`;

/** Seconds since the roll by the server's clock, as a function of now. */
function useSinceRoll(rolling: RollingOut | null | undefined): () => number {
  return useMemo(() => {
    if (!rolling) return () => 0;
    const behind = Date.now() - new Date(rolling.now).getTime();
    const started = new Date(rolling.started_at).getTime() + behind;
    return () => (Date.now() - started) / 1000;
  }, [rolling]);
}

/** Words that follow the time since the roll, written with the display but without drawing the page anew. */
function Ticking({ words }: { words: () => string }) {
  const ref = useRef<HTMLSpanElement>(null);
  useEffect(() => {
    let request = 0;
    const tick = () => {
      const now = words();
      if (ref.current && ref.current.textContent !== now) ref.current.textContent = now;
      request = requestAnimationFrame(tick);
    };
    tick();
    return () => cancelAnimationFrame(request);
  }, [words]);
  return <span ref={ref} />;
}

const NOTHING: Written = { note: '', version: 0 };

function prompt(seconds: number): string {
  if (seconds < 1.6) return 'T-pose, still';
  if (seconds < 4) return 'Clap';
  return 'Action';
}

const Acts = styled.div`
  display: flex;
  gap: 12px;
  align-items: end;
  margin-top: 10px;
`;

/** A note that Escape and Enter save and leave, so that the keys of the floor work again; Shift Enter begins a line. */
function NoteField({ label, note }: { label: string; note: ReturnType<typeof useNote> }) {
  return (
    <div style={{ flex: 1 }}
      onKeyDown={(e) => {
        if (e.key !== 'Escape' && (e.key !== 'Enter' || e.shiftKey)) return;
        e.preventDefault();
        (e.target as HTMLElement).blur();
      }}>
      <TextInput label={label} lines={2} value={note.text} onChange={note.type} onBlur={note.save} maxLength={2000} />
      <TwoNotes note={note} />
    </div>
  );
}

export function Floor({ me }: { me: Me }) {
  const params = useParams();
  const production = Number(params.production);
  const navigate = useNavigate();
  const client = useQueryClient();
  const board = useBoard(production, { slate: Number(params.slate) });
  const day = board.data?.day;
  const rollingNow = useQuery({ queryKey: ['rolling', production], queryFn: () => get<RollingOut | null>(`/productions/${production}/rolling`) });
  const slates = day?.slates ?? [];
  const slate = slates.find((s) => s.id === Number(params.slate)) ?? slates.find((s) => s.id === rollingNow.data?.slate_id) ?? slates.find((s) => !s.warm_up) ?? slates[0];
  const [knocked, setKnocked] = useState<Knocked>([]);
  const floor = useQuery({ queryKey: ['floor', slate?.id], queryFn: () => get<FloorOut>(`/slates/${slate!.id}/floor`), enabled: Boolean(slate), refetchInterval: useAsking(4000) });
  const rolling = floor.data?.rolling?.slate_id === slate?.id ? floor.data?.rolling : null;
  const elsewhere = floor.data?.rolling && floor.data.rolling.slate_id !== slate?.id ? floor.data.rolling : null;
  const sinceRoll = useSinceRoll(rolling);
  const [count, setCount] = useState(0);
  const [cutTake, setCutTake] = useState<number | null>(null);
  const p = board.data?.production;
  const format = useMemo(() => (p ? formatOf(p.timecode_rate, p.drop_frame) : null), [p?.timecode_rate, p?.drop_frame]); // eslint-disable-line react-hooks/exhaustive-deps
  const refresh = () => {
    void client.invalidateQueries({ queryKey: ['floor'] });
    void client.invalidateQueries({ queryKey: ['rolling'] });
    void client.invalidateQueries({ queryKey: ['board', production] });
  };
  const noteRolling = async ({ note: words, version }: Written) => {
    const path = `/slates/${slate!.id}/rolling`;
    try {
      await patch(path, { note: words, version });
    } catch (refused) {
      const theirs = theirsOf(refused);
      if (!theirs) throw refused;
      await patch(path, { note: both(theirs.note, words), version: theirs.version }); // the cut does not wait for a decision
    }
  };
  const roll = useMutation({ mutationFn: () => post(`/slates/${slate!.id}/roll`), onSettled: refresh });
  const cut = useMutation({
    mutationFn: async (unsaved?: Written) => {
      if (unsaved) await noteRolling(unsaved); // still being typed when it was cut
      return post<TakeRow>(`/slates/${slate!.id}/cut`);
    },
    onSuccess: (take) => setCutTake(take.id),
    onSettled: refresh,
  });
  const abandon = useMutation({ mutationFn: () => post(`/slates/${slate!.id}/abandon`), onSettled: refresh });
  const mark = useMutation({
    mutationFn: ({ id, ...values }: { id: number; version: number; status?: string; note?: string }) => patch<TakeRow>(`/takes/${id}`, values),
    onSettled: refresh,
  });
  useEffect(() => {
    if (count === COUNTDOWN_S && slate) void post(`/slates/${slate.id}/stand-by`).catch(() => undefined); // the roll itself tells what is wrong
    if (count <= 0) return;
    const timer = window.setTimeout(() => {
      if (count === 1) roll.mutate();
      setCount(count - 1);
    }, 1000);
    return () => window.clearTimeout(timer);
  }, [count]); // the countdown restarts on nothing else
  const last = slate?.takes.find((t) => t.id === cutTake) ?? slate?.takes.at(-1);
  const say = useMutation({
    scope: { id: 'rolling' }, // one after the other, so that the last answer is the newest
    mutationFn: (values: { note?: string; version?: number; circled?: boolean }) => patch<RollingOut>(`/slates/${slate!.id}/rolling`, values),
    onSuccess: (now) => client.setQueryData<FloorOut>(['floor', slate?.id], (before) => before && { ...before, rolling: now }),
    onError: refresh,
  });
  // what is noted and circled is the take that rolls, and the last one when none does
  const noted = rolling ?? last;
  const note = useNote(`${slate?.id} ${noted?.number}`, noted ?? NOTHING, (words, version) => (rolling ? say.mutateAsync({ note: words, version }) : mark.mutateAsync({ id: last!.id, note: words, version })));
  const noteField = useRef<HTMLDivElement>(null);
  const cutting = cut.isPending;
  const cutNow = () => {
    if (!cutting) cut.mutate(rolling && note.touched ? { note: note.text, version: note.seen.version } : undefined);
  };
  const cutLatest = useRef(cutNow);
  cutLatest.current = cutNow;
  useEffect(() => {
    if (!rolling) return undefined;
    const timer = window.setTimeout(() => cutLatest.current(), Math.max(0, 1000 * (AUTO_CUT_S - sinceRoll())));
    return () => window.clearTimeout(timer);
  }, [rolling, sinceRoll]); // a cut that failed is tried again with the next word from the server, not at once
  const circle = () => {
    if (rolling) say.mutate({ circled: !rolling.circled });
    else if (last) mark.mutate({ id: last.id, version: last.version, status: last.status === 'circled' ? 'open' : 'circled' });
  };

  const keys = useRef<(e: KeyboardEvent) => void>(() => {});
  keys.current = (e) => {
    if (/^(INPUT|TEXTAREA|SELECT)$/.test((e.target as HTMLElement).tagName) || e.ctrlKey || e.metaKey || e.altKey) return;
    if (e.key === 'r' && !rolling && count === 0 && slate && !elsewhere) setCount(COUNTDOWN_S);
    else if (e.key === 'x' && rolling) cutNow();
    else if (e.key === 'Escape' && count > 0) setCount(0);
    else if (e.key === 'c' && noted) circle();
    else if (e.key === 'n') noteField.current?.querySelector('textarea')?.focus();
    else return;
    e.preventDefault();
  };
  useEffect(() => {
    const listen = (e: KeyboardEvent) => keys.current(e);
    window.addEventListener('keydown', listen);
    return () => window.removeEventListener('keydown', listen);
  }, []);

  const v = last && verdict(last.runs);
  const first = rolling?.first_timecode;
  const serverNow = floor.data?.now;
  const behindMs = useMemo(() => (serverNow ? Date.now() - new Date(serverNow).getTime() : null), [serverNow]);
  const code = useCallback(() => {
    if (!format || behindMs === null) return '--:--:--:--';
    return first ? labelAt(first, sinceRoll(), format) : labelOfDay(Date.now() - behindMs, format);
  }, [first, format, sinceRoll, behindMs]);
  const elapsed = useCallback(() => `${sinceRoll().toFixed(1)} s`, [sinceRoll]);
  const nextWord = useCallback(() => prompt(sinceRoll()), [sinceRoll]);
  return (
    <Frame theme={night} me={me} productionId={production}
      cells={[
        { what: p?.name ?? 'production', value: day ? `Day ${day.number}, ${day.stage}` : '…' },
        { what: 'slate', value: slate ? `${slate.name} ${slate.title}` : day ? 'none yet' : '…' },
        { what: 'take', value: rolling ? rolling.number : (floor.data?.next_number ?? (day && !slate ? '–' : '…')), whole: true },
        { what: 'rate', value: p ? rateWords(p.timecode_rate, p.drop_frame) : '…', whole: true },
      ]}>
      {board.isError && <Trouble error={board.error} />}
      {day && slates.length === 0 && (
        <Empty style={{ margin: 28 }}><h2>No slate to roll</h2><p>A take belongs to a slate. <Link to={`/p/${production}/shoot`}>Add one on the board</Link>, or <Link to={`/p/${production}/cast`}>roll a performer’s warm-up</Link>.</p></Empty>
      )}
      {slate && (
        <Wrap>
          <Side>
            <h2>Slates</h2>
            {slates.map((s) => (
              <Link key={s.id} to={`/p/${production}/floor/${s.id}`} aria-current={s.id === slate.id ? 'page' : undefined}>
                <strong>{s.name}</strong> {s.title}
                <br />
                <Quiet>{s.performer} · {s.takes.length} take{s.takes.length === 1 ? '' : 's'}</Quiet>
              </Link>
            ))}
          </Side>
          <Middle>
            <Name>
              <div><Quiet>slate</Quiet><h1>{slate.name}</h1></div>
              <div><Quiet>take</Quiet><h1>{rolling ? rolling.number : (floor.data?.next_number ?? '…')}</h1></div>
              <div style={{ marginLeft: 'auto', textAlign: 'right' }}><Quiet>timecode</Quiet><Code $rolling={Boolean(rolling)}><Ticking words={code} /></Code></div>
            </Name>
            <State $rolling={Boolean(rolling)} role="status">
              {rolling ? (
                <>
                  <strong>● ROLLING</strong>
                  <Figure><Ticking words={elapsed} /></Figure>
                  <span style={{ marginLeft: 'auto' }}><Ticking words={nextWord} /></span>
                </>
              ) : count > 0 ? (
                <strong>Rolling in {count}</strong>
              ) : (
                <span>
                  {floor.data && !floor.data.calibrated && !slate.warm_up
                    ? `${slate.performer} is not calibrated: the take will record, but it cannot be solved before a warm-up.`
                    : slate.warm_up
                      ? `Warm-up of ${slate.performer}, about a minute: hold a T-pose, move every joint, hold still again.`
                      : 'Ready. T-pose, clap, action, T-pose, cut.'}
                </span>
              )}
            </State>
            <div style={{ display: 'flex', gap: 14, flexWrap: 'wrap' }}>
              {!rolling && (
                <BigButton isDisabled={roll.isPending || Boolean(elsewhere)} onPress={() => setCount(count > 0 ? 0 : COUNTDOWN_S)}
                  style={{ background: night.selection, color: night.onSelection }}>
                  {count > 0 ? 'Hold' : 'Roll'} <small>R</small>
                </BigButton>
              )}
              {rolling && (
                <BigButton isDisabled={cutting} onPress={cutNow} style={{ background: night.wrong, color: '#1c0d08' }}>
                  Cut <small>X</small>
                </BigButton>
              )}
              {rolling && <BigButton onPress={() => abandon.mutate()}>Drop it, keep nothing</BigButton>}
            </div>
            {knocked.map((k) => (
              <Trouble key={k.camera} error={`Camera ${k.camera} has been knocked: its picture is off by ${k.shift_px.toFixed(1)} px. The take can be saved.`}>
                {' '}<Link to={`/p/${production}/stage/trust?camera=${k.camera}`}>Place the camera anew</Link> when it is cut.
              </Trouble>
            ))}
            {elsewhere && <Trouble error={`Slate ${elsewhere.slate} take ${elsewhere.number} is rolling; cut it first.`} />}
            <Trouble error={roll.error ?? cut.error ?? note.error ?? (note.theirs ? null : (mark.error ?? say.error))} />
            {rolling && (
              <section aria-label={`Take ${rolling.number}, rolling`} style={{ borderTop: `1px solid ${night.hairline}`, paddingTop: 14 }}>
                <h2 style={{ margin: 0, fontSize: 18 }}>Take {rolling.number}</h2>
                <Acts ref={noteField}>
                  <BigButton onPress={circle} aria-pressed={rolling.circled}>{rolling.circled ? '◯ circled' : 'Circle'} <small>C</small></BigButton>
                  <NoteField label={`Note on take ${rolling.number}, rolling (N)`} note={note} />
                </Acts>
              </section>
            )}
            {last && v && (
              <section aria-label="Verdict" aria-live="polite" style={{ borderTop: `1px solid ${night.hairline}`, paddingTop: 14, opacity: rolling ? 0.6 : 1 }}>
                <div style={{ display: 'flex', gap: 16, alignItems: 'baseline' }}>
                  <h2 style={{ margin: 0, fontSize: 18 }}>Take {last.number}</h2>
                  <span style={{ fontSize: 16, color: v.tone === 'wrong' ? night.wrong : undefined }}>{v.words || 'being written'}</span>
                  <Quiet style={{ marginLeft: 'auto' }}>{v.state === 'ready' ? 'usable' : v.state}</Quiet>
                </div>
                <div style={{ margin: '10px 0' }}><Thumbnail picture={last.picture} width={420} /></div>
                {v.working && <Progress value={last.runs.filter((r) => r.state === 'done').length / Math.max(1, last.runs.length)} words={v.state} />}
                {!rolling && (
                  <Acts ref={noteField}>
                    <BigButton onPress={circle} aria-pressed={last.status === 'circled'}>{last.status === 'circled' ? '◯ circled' : 'Circle'} <small>C</small></BigButton>
                    <BigButton onPress={() => mark.mutate({ id: last.id, version: last.version, status: last.status === 'no good' ? 'open' : 'no good' })}>
                      {last.status === 'no good' ? 'NG ✕' : 'No good'}
                    </BigButton>
                    <NoteField label={`Note on take ${last.number} (N)`} note={note} />
                    <WordButton onPress={() => navigate(`/p/${production}/bench/${last.id}`)}>To the bench</WordButton>
                  </Acts>
                )}
              </section>
            )}
          </Middle>
          <Side style={{ borderRight: 0, borderLeft: `1px solid ${night.hairline}` }}>
            <h2>Devices of {slate.performer}’s kit</h2>
            <DevicesLive production={production} kit={floor.data?.devices ?? []} performer={slate.performer} />
            <h2 style={{ marginTop: 22 }}>Cameras</h2>
            <div style={{ padding: '0 16px' }}><CamerasLive production={production} onKnocked={setKnocked} /></div>
          </Side>
        </Wrap>
      )}
    </Frame>
  );
}
