import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useCallback, useEffect, useMemo, useRef, useState } from 'react';
import { Dialog, Modal, ModalOverlay } from 'react-aria-components';
import { useParams, useSearchParams } from 'react-router';
import styled, { ThemeProvider } from 'styled-components';
import { patch, post, type Me, type RunOut, type Schemas, type SnagOut, type TakeOut } from '../api/client';
import { useBenchLanes } from '../bench/lanes';
import { PassStrip, type Settings } from '../bench/passes';
import { grouped, proposalBy, sameKind, SnagList } from '../bench/snags';
import { Splitter, useSplit } from '../bench/splitter';
import { useDevices } from '../queries/production';
import { useBody, useProps, useTake, useTracks } from '../queries/take';
import { Lanes } from '../lanes/lanes';
import type { Range } from '../lanes/draw';
import { Figure, PlainButton, Quiet, Trouble, WordButton } from '../parts/controls';
import { KeyList, useKeys, type KeyLine } from '../parts/keys';
import { Frame } from '../parts/frame';
import { Panel } from '../parts/panel';
import { History } from '../parts/history';
import { night } from '../theme';
import { formatOf, labelAt, rateWords } from '../time/timecode';
import { Transport } from '../time/transport';
import { StageView } from '../view/stage-view';

const Layout = styled.div`
  display: flex;
  flex-direction: column;
  height: 100%;
  min-height: 0;
`;

const Upper = styled.div`
  display: flex;
  flex: 1;
  min-height: 0;
`;

const Foot = styled.div`
  display: flex;
  gap: 16px;
  align-items: center;
  padding: 4px 14px;
  border-top: 1px solid ${(p) => p.theme.hairline};
  min-height: 34px;
  flex: none;
  white-space: nowrap;
`;

const Clock = styled.span`
  font-family: ${(p) => p.theme.mono};
  font-size: 24px;
  letter-spacing: 0.01em;
  padding: 8px 16px 0;
  border-left: 1px solid ${(p) => p.theme.hairline};
  white-space: nowrap;
  /* a new text every frame must not lay the whole slate out again */
  width: 216px;
  contain: strict;
  will-change: contents;
`;

const FileNotes = styled.ul`
  position: absolute;
  inset: auto auto 8px 14px;
  z-index: 1;
  margin: 0;
  padding: 0;
  list-style: none;
  font-size: 12px;
  color: ${night.quiet};
  max-width: 60%;
  pointer-events: none;
`;

const Sheet = styled(Modal)`
  background: ${night.raised};
  color: ${night.text};
  border: 1px solid ${night.quiet};
  padding: 20px 28px;
  font-family: ${night.sans};
  font-size: ${night.size.body};
`;

const Overlay = styled(ModalOverlay)`
  position: fixed;
  inset: 0;
  z-index: 10;
  display: grid;
  place-items: center;
  background: rgb(10 9 16 / 70%);
`;

/** The streams that are drawn, and how many samples are skipped for one that is kept. */
const WANTED: Record<string, number> = { mended: 1, labelled: 1, residual: 1, 'joint uncertainty': 1 };
const NO_DEVICES: Schemas['DeviceOut'][] = [];
const WAVE_STEP = 48; // samples of sound that become one peak in a lane

function ClockFace({ transport, labelOf }: { transport: Transport; labelOf: (s: number) => string }) {
  const ref = useRef<HTMLSpanElement>(null);
  useEffect(() => transport.subscribe((t) => ref.current && (ref.current.textContent = labelOf(t))), [transport, labelOf]);
  return <Clock ref={ref} aria-label="Timecode" role="timer" />;
}

export function Bench({ me }: { me: Me }) {
  const { production, take: takeParam } = useParams();
  const id = Number(takeParam);
  const { take, runs, working } = useTake(id);
  if (!take.data) {
    return (
      <Frame theme={night} me={me} productionId={Number(production)} benchTake={id} cells={[{ what: 'bench', value: 'take' }]}>
        <div style={{ padding: 24 }}>{take.isError ? <Trouble error={take.error} /> : <Quiet>Fetching the take…</Quiet>}</div>
      </Frame>
    );
  }
  return <Open key={id} me={me} data={take.data} runs={runs} working={working} />;
}

function Open({ me, data, runs, working }: { me: Me; data: TakeOut; runs: RunOut[]; working: boolean }) {
  const client = useQueryClient();
  const take = data.take;
  const id = take.id;
  const [query, setQuery] = useSearchParams();
  const format = useMemo(() => formatOf(data.timecode_rate, data.drop_frame), [data.timecode_rate, data.drop_frame]);
  const labelOf = useCallback((s: number) => labelAt(take.first_timecode, s, format), [take.first_timecode, format]);
  const duration = Math.max(take.duration_s, 0.1);
  const [transport] = useState(() => {
    const t = new Transport(duration, 1 / format.rate);
    t.time = Math.min(Number(query.get('t')) || take.in_s, duration);
    return t;
  });
  useEffect(() => {
    transport.duration = duration;
  }, [transport, duration]);

  const body = useBody(data.streams);
  const devices = useDevices().data ?? NO_DEVICES;
  const wanted = useMemo(
    () => ({ ...WANTED, ...Object.fromEntries(devices.filter((d) => d.lane).map((d) => [d.id, d.lane!.draws === 'wave' ? WAVE_STEP : 1])) }),
    [devices],
  );
  const { tracks: loaded, failed: notLoaded } = useTracks<string>(data.streams, wanted);
  const props = useProps(data.streams);
  const markers = loaded.mended ?? loaded.labelled;
  const names = useMemo(() => {
    const stream = data.streams.filter((s) => s.name === 'mended' || s.name === 'labelled').at(-1);
    return (stream?.details as { names?: string[] } | undefined)?.names ?? [];
  }, [data.streams]);

  const [range, setRange] = useState<Range>({ from: 0, to: duration });
  useEffect(() => setRange({ from: 0, to: duration }), [duration]);
  const [open, setOpen] = useState(false);
  const [sheet, setSheet] = useState(false);
  const snag = Number(query.get('snag') ?? -1);
  const member = Number(query.get('part') ?? 0);
  const groups = useMemo(() => grouped(data.snags), [data.snags]);
  const here = groups[snag]?.snags[member] ?? groups[snag]?.snags[0];
  const [method, setMethod] = useState<string | null>(null);
  const marker = query.get('marker') ? names.indexOf(query.get('marker')!) : -1;
  const put = useCallback(
    (values: Record<string, string | null>) =>
      setQuery(
        () => {
          // what the address says now, not when this was last drawn: two changes in a row must both stay
          const next = new URLSearchParams(window.location.search);
          for (const [k, v] of Object.entries(values)) if (v === null) next.delete(k);
            else next.set(k, v);
          return next;
        },
        { replace: true },
      ),
    [setQuery],
  );
  // the address keeps the moment, written when it comes to rest
  useEffect(() => {
    let timer = 0;
    const leave = transport.subscribe((t) => {
      window.clearTimeout(timer);
      if (transport.speed === 0) timer = window.setTimeout(() => put({ t: t.toFixed(3) }), 300);
    });
    return () => {
      window.clearTimeout(timer);
      leave();
    };
  }, [transport, put]);

  const refresh = () => client.invalidateQueries({ queryKey: ['take', id] });
  const change = useMutation({ mutationFn: (body: object) => patch(`/takes/${id}`, body), onSettled: refresh });
  const advance = useRef(false);
  const accept = useMutation({
    mutationFn: (snags: SnagOut[]) => post<TakeOut>(`/takes/${id}/mends`, snags.map((s) => ({ document: proposalBy(s, method), words: s.text }))),
    onSuccess: (answer) => {
      advance.current = true;
      client.setQueryData(['take', id], answer); // seen at once; the solve follows
    },
    onError: refresh,
  });
  const proposed = here && !here.mended ? proposalBy(here, method) : null;
  const preview = useQuery({
    queryKey: ['preview', id, proposed, data.streams.find((s) => s.name === 'mended')?.id],
    queryFn: () => post<Schemas['PreviewOut']>(`/takes/${id}/mends/preview`, { document: proposed }),
    enabled: proposed !== null,
    staleTime: Infinity,
  }).data;
  const proposal = useMemo(() => {
    if (!preview || !proposed) return null;
    const changed = preview.after.map((p, i) => (p && !preview.before[i] ? p : proposed.kind === 'fill' ? null : p));
    return { first: preview.first, rate: markers?.rate ?? 1, start: markers?.start ?? 0, path: changed as ([number, number, number] | null)[] };
  }, [preview, proposed, markers]);
  const again = useMutation({ mutationFn: ({ name, parameters }: { name: string; parameters?: Settings }) => post(`/takes/${id}/passes/${name.replaceAll(' ', '-')}`, { parameters: parameters ?? {} }), onSettled: refresh });
  const stop = useMutation({ mutationFn: (run: RunOut) => post(`/runs/${run.id}/cancel`), onSettled: refresh });
  const undo = useMutation({
    mutationFn: (redo: boolean) => post<{ words: string | null }>(`/takes/${id}/undo?redo=${redo}`),
    onSettled: refresh,
  });

  const goTo = useCallback(
    (index: number, part = 0) => {
      const s = groups[index]?.snags[part];
      if (!s) return;
      setMethod(null);
      put({ snag: String(index), part: part ? String(part) : null, marker: names.includes(s.subject) ? s.subject : null });
      transport.stop();
      transport.seek(Math.min((s.start_s + s.end_s) / 2, duration));
      const length = s.end_s - s.start_s;
      if (length < duration * 0.9) {
        const span = Math.min(duration, Math.max(3, length * 4));
        const from = Math.min(Math.max(0, (s.start_s + s.end_s) / 2 - span / 2), duration - span);
        setRange({ from, to: from + span });
      }
    },
    [groups, names, transport, duration, put],
  );

  // what was accepted leaves its place in the list: look at what stands there now, the worst that is left
  const leftOver = data.snags.filter((s) => !s.mended).length;
  const before = useRef(leftOver);
  useEffect(() => {
    const fewer = leftOver < before.current;
    before.current = leftOver;
    if (!advance.current || !fewer) return;
    advance.current = false;
    const open = groups.filter((g) => !g.snags[0].mended).length;
    if (open > 0) goTo(Math.min(Math.max(snag, 0), open - 1));
  }, [leftOver, groups, goTo, snag]);

  const pickRow = (by: number) => names.length && put({ marker: names[Math.min(Math.max(marker + by, 0), names.length - 1)] });
  const acceptSnag = (all: boolean) => {
    if (!here?.proposal || here.mended || accept.isPending) return;
    accept.mutate(all ? data.snags.filter((o) => !o.mended && sameKind(o, here)) : [here]);
  };

  const keys: KeyLine[] = [
    { keys: 'space', words: 'play, stop', on: { space: () => transport.toggle() }, leavesButtons: true },
    { keys: 'J K L', words: 'back, stop, forward; again for faster', on: { j: () => transport.shuttle(-1), k: () => transport.stop(), l: () => transport.shuttle(1) } },
    { keys: '← →', words: 'one frame; with shift ten', on: {
      ArrowLeft: () => transport.step(-1), ArrowRight: () => transport.step(1), 'shift+ArrowLeft': () => transport.step(-10), 'shift+ArrowRight': () => transport.step(10),
    } },
    { keys: 'I O', words: 'set the in point, the out point', on: {
      i: () => change.mutate({ in_s: Number(transport.time.toFixed(4)) }), o: () => change.mutate({ out_s: Number(transport.time.toFixed(4)) }),
    } },
    { keys: '. ,', words: 'next snag, previous snag', on: { '.': () => goTo(Math.min(snag + 1, groups.length - 1)), ',': () => goTo(Math.max(snag - 1, 0)) } },
    { keys: 'Enter', words: 'accept the proposal of the snag', on: { Enter: () => acceptSnag(false) }, leavesButtons: true },
    { keys: 'Shift Enter', words: 'accept all like it', on: { 'shift+Enter': () => acceptSnag(true) }, leavesButtons: true },
    { keys: 'M', words: 'fill the other way: curve or body', on: { m: () => here?.proposal && setMethod((method ?? here.proposal.method) === 'curve' ? 'body' : 'curve') } },
    { keys: '↑ ↓', words: 'the marker above, below in the matrix', on: { ArrowUp: () => pickRow(-1), ArrowDown: () => pickRow(1) }, leavesButtons: true },
    { keys: 'F', words: 'frame the selected marker', on: { f: () => window.dispatchEvent(new Event('otrevo-frame-selection')) } },
    { keys: 'Z', words: 'show the whole take; ctrl-wheel over the lanes zooms', on: { z: () => setRange({ from: 0, to: duration }) } },
    { keys: 'Ctrl Z, Ctrl Shift Z', words: 'undo, redo', on: { 'ctrl+z': () => undo.mutate(false), 'ctrl+shift+z': () => undo.mutate(true) } },
    { keys: '?', words: 'this sheet', on: { '?': () => setSheet(true) } },
  ];
  useKeys(sheet ? [] : keys);

  const lower = useSplit('lanes', 300, 120, 620);
  const side = useSplit('snags', 370, 240, 620);
  const lanes = useBenchLanes({
    tracks: loaded, devices, names, groups, selectedSnag: snag, marker: marker < 0 ? null : marker, open, theme: night,
    proposal: here?.subject === names[marker] ? proposal : null,
    hasOptical: data.streams.some((s) => s.name === 'optical'), notLoaded,
    onOpen: () => setOpen(!open), onMarker: (m) => put({ marker: m === null ? null : (names[m] ?? null) }), onSnag: goTo,
  });
  const notes = useMemo(() => data.streams.flatMap((s) => {
    const d = s.details as { file?: string; notes?: string[] };
    return (d.notes ?? []).map((n) => `${d.file ?? s.name}: ${n}`);
  }), [data.streams]);
  const failed = runs.find((r) => r.state === 'failed');
  const mends = data.mends.filter((m) => m.active).length;
  return (
    <Frame
      theme={night} me={me} productionId={data.production_id} benchTake={id}
      cells={[
        { what: data.production, value: `Day ${data.day}` },
        { what: 'slate', value: `${data.slate} ${data.title}` },
        { what: 'take', value: `${take.number} ${take.status === 'circled' ? '◯ circled' : take.status === 'open' ? '' : take.status}` },
        { what: 'rate', value: rateWords(data.timecode_rate, data.drop_frame) },
      ]}
      right={<ThemeProvider theme={night}><ClockFace transport={transport} labelOf={labelOf} /></ThemeProvider>}
    >
      <Layout>
        <PassStrip passes={data.passes} runs={runs} mends={mends} snags={data.snags.filter((s) => !s.mended && s.severity >= 1).length} onRun={(name, parameters) => again.mutate({ name, parameters })} onCancel={(r) => stop.mutate(r)} />
        <Upper>
          <div style={{ flex: 1, minWidth: 0, minHeight: 0, position: 'relative' }}>
            {notes.length > 0 && <FileNotes aria-label="Notes on the files">{notes.map((n) => <li key={n}>{n}</li>)}</FileNotes>}
            {body || markers ? (
              <Panel name="The view">
              <StageView
                caption={`${take.performers.join(', ')} · ${body ? (markers ? 'solved body over markers' : 'body from a file') : 'markers, not solved yet'}`}
                body={body} markers={markers ?? null} props={props} ghost={proposal} names={names} transport={transport} selected={marker < 0 ? null : marker}
                onSelect={(m) => put({ marker: m === null ? null : (names[m] ?? null) })}
              />
              </Panel>
            ) : (
              <div style={{ padding: 24 }}>
                {failed ? <Trouble error={failed.message} /> : <Quiet>{working ? 'The passes are at work; the body appears here when it is solved.' : 'Nothing to show yet: run Label and Solve, or roll a warm-up for this performer first.'}</Quiet>}
              </div>
            )}
          </div>
          <Splitter across={false} size={side.size} onChange={side.change} label="Width of the snag list" />
          <div style={{ width: side.size, flex: 'none', minHeight: 0 }}>
            <Panel name="The snag list"><SnagList groups={groups} selected={snag} member={member} method={method} labelOf={labelOf} busy={accept.isPending} looked={runs.some((r) => r.state === 'done' && r.figure)} onSelect={goTo} onMethod={setMethod} onAccept={(s) => accept.mutate(s)} /></Panel>
          </div>
        </Upper>
        <Splitter across size={lower.size} onChange={lower.change} label="Height of the lanes" />
        <div style={{ height: lower.size, flex: 'none', minHeight: 0 }}>
          <Panel name="The lanes"><Lanes lanes={lanes} transport={transport} title={`Take ${take.number} · ${duration.toFixed(1)} s`} labelOf={labelOf} inOut={[take.in_s, take.out_s]} range={range} onRange={setRange} /></Panel>
        </div>
        <Foot>
          <PlainButton onPress={() => transport.toggle()} aria-label="Play or stop">▶ / ■</PlainButton>
          <WordButton onPress={() => change.mutate({ in_s: Number(transport.time.toFixed(4)) })}>Set in</WordButton>
          <Figure>{labelOf(take.in_s)}</Figure>
          <WordButton onPress={() => change.mutate({ out_s: Number(transport.time.toFixed(4)) })}>Set out</WordButton>
          <Figure>{labelOf(take.out_s)}</Figure>
          <WordButton onPress={() => setRange({ from: 0, to: duration })} isDisabled={range.from <= 0 && range.to >= duration}>Whole take</WordButton>
          <WordButton onPress={() => undo.mutate(false)}>Undo</WordButton>
          <WordButton onPress={() => undo.mutate(true)}>Redo</WordButton>
          <ThemeProvider theme={night}><History takeId={id} takeNumber={take.number} /></ThemeProvider>
          <span aria-live="polite" style={{ overflow: 'hidden', textOverflow: 'ellipsis' }}>
            {undo.data && <Quiet>{undo.data.words ? `${undo.variables ? 'redone' : 'undone'}: ${undo.data.words}` : 'nothing left to take back'}</Quiet>}
            {[change.error, accept.error, again.error, undo.error].filter(Boolean).map((e, i) => <span role="alert" key={i} style={{ color: night.wrong }}>✕ {(e as Error).message}</span>)}
          </span>
          <span style={{ marginLeft: 'auto' }}><WordButton onPress={() => setSheet(true)}>? keys</WordButton></span>
        </Foot>
      </Layout>
      <Overlay isOpen={sheet} onOpenChange={setSheet} isDismissable>
        <Sheet>
          <Dialog aria-label="Keys">
            <h2 style={{ margin: 0 }}>Keys</h2>
            <KeyList map={keys} />
            <PlainButton slot="close" autoFocus style={{ color: night.text }}>Close</PlainButton>
          </Dialog>
        </Sheet>
      </Overlay>
    </Frame>
  );
}

