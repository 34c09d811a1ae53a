import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useCallback, useEffect, useMemo, useRef, useState } from 'react';
import { Link, useParams } from 'react-router';
import styled, { ThemeProvider } from 'styled-components';
import { get, getBytes, post, type Me, type PackageOut } from '../api/client';
import { usePushed } from '../queries/push';
import { useAround, useBodies, useProps } from '../queries/take';
import { Figure, MainButton, PlainButton, Quiet, TextInput, Trouble } from '../parts/controls';
import { Choice, Slide } from '../parts/choices';
import { Frame } from '../parts/frame';
import { night, paper } from '../theme';
import { formatOf, labelAt } from '../time/timecode';
import { Transport } from '../time/transport';
import { CharacterView } from '../view/character-view';
import type { Upright } from '../view/skin';
import { StageView } from '../view/stage-view';
import { differences } from './handover';

const Wrap = styled.div`
  display: grid;
  grid-template-columns: 1fr 380px;
  height: 100%;
  min-height: 560px;
`;

const View = styled.div`
  background: ${night.ground};
  color: ${night.text};
  display: flex;
  flex-direction: column;
  min-width: 0;
  min-height: 0;
`;

const Bar = styled.div`
  display: flex;
  gap: 14px;
  align-items: center;
  padding: 8px 14px;
  border-top: 1px solid ${night.hairline};
  input {
    flex: 1;
    accent-color: ${night.selection};
  }
`;

const Panel = styled.div`
  padding: 18px 22px;
  overflow-y: auto;
  border-left: 1px solid ${(p) => p.theme.hairline};
  h1 {
    font-size: 18px;
    margin: 0 0 4px;
    overflow-wrap: anywhere;
  }
  h2 {
    font-size: 13px;
    font-weight: normal;
    color: ${(p) => p.theme.quiet};
    margin: 18px 0 4px;
  }
  ul {
    margin: 0;
    padding: 0;
    list-style: none;
  }
  li {
    padding: 4px 0;
    border-bottom: 1px solid ${(p) => p.theme.hairline};
    overflow-wrap: anywhere;
  }
`;

type Take = PackageOut['takes'][number];

type Played = { name: string; file: number; upright: Upright };

/** The characters of a take in a package: the files that are delivered, by their number in it. */
function playedBy(p: PackageOut, take: Take): Played[] {
  const rows = p.manifest.takes.filter((t) => t.characters.length > 0 && t.log_slate === take.slate && t.log_take === take.number).flatMap((t) => t.characters);
  return rows.map((c) => ({ name: c.name, file: p.manifest.files.findIndex((f) => f.path === c.file), upright: c }));
}

function Player({ take, format, package: id, characters }: { take: Take; format: ReturnType<typeof formatOf>; package: number; characters: Played[] }) {
  const [on, setOn] = useState(characters.length ? 0 : -1);
  const played = characters[on];
  const given = useQuery({
    queryKey: ['packed file', id, played?.file],
    queryFn: () => getBytes(`/packages/${id}/files/${played.file}`),
    enabled: played !== undefined,
    staleTime: Infinity,
    retry: false,
  });
  const [transport] = useState(() => new Transport(take.out_s, 1 / format.rate));
  const around = useAround(transport);
  const bodies = useBodies(take.tracks, around);
  const props = useProps(take.tracks, around);
  const clock = useRef<HTMLSpanElement>(null);
  const { first_timecode: first, in_s: start } = take;
  const labelOf = useCallback((s: number) => labelAt(first, s, format), [first, format]);
  useEffect(() => transport.seek(start), [transport, start]);
  useEffect(() => transport.subscribe((t) => {
    if (clock.current) clock.current.textContent = labelOf(t);
    if (t < start) transport.seek(start);
  }), [transport, start, labelOf]);
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if (/^(INPUT|TEXTAREA|BUTTON|A)$/.test((e.target as HTMLElement).tagName) && e.key === ' ') return;
      if (/^TEXTAREA$/.test((e.target as HTMLElement).tagName)) return;
      if (e.key === ' ') transport.toggle();
      else if (e.key === 'ArrowLeft') transport.step(e.shiftKey ? -10 : -1);
      else if (e.key === 'ArrowRight') transport.step(e.shiftKey ? 10 : 1);
      else return;
      e.preventDefault();
    };
    window.addEventListener('keydown', key);
    return () => window.removeEventListener('keydown', key);
  }, [transport]);
  return (
    <ThemeProvider theme={night}>
      <View>
        <div style={{ flex: 1, minHeight: 0 }}>
          {played ? (
            given.data ? (
              <CharacterView bytes={given.data} upright={played.upright} transport={transport} start={take.in_s} label={`${played.name}, as delivered`} caption={`${take.slate} ${take.title}, take ${take.number} · ${played.name}, the file as it is delivered`} />
            ) : given.error ? <Trouble error={given.error} /> : (
              <p style={{ padding: 20 }}>Fetching {played.name}…</p>
            )
          ) : bodies.length ? (
            <StageView caption={`${take.slate} ${take.title}, take ${take.number} · ${take.performers.join(', ')}`} bodies={bodies} markers={null} props={props} ghost={null} names={[]} transport={transport} selected={null} onSelect={() => {}} />
          ) : (
            <p style={{ padding: 20 }}>Fetching the motion…</p>
          )}
        </div>
        <Bar>
          <PlainButton onPress={() => transport.toggle()} aria-label="Play or stop">▶ / ■</PlainButton>
          <Position transport={transport} from={take.in_s} to={take.out_s} />
          <Figure ref={clock} style={{ fontSize: 18 }} />
          {characters.length > 0 && (
            <Choice label="Shown" hidden options={[...characters.map((c, i) => ({ id: i, words: c.name })), { id: -1, words: `${take.performers.join(', ')}, solved` }]} value={on} onChange={setOn} style={{ minWidth: 150 }} />
          )}
        </Bar>
      </View>
    </ThemeProvider>
  );
}

const SLIDER_EVERY_S = 0.1;

/** Where the transport is, drawn by itself and not with every picture. */
function Position({ transport, from, to }: { transport: Transport; from: number; to: number }) {
  const [shown, setShown] = useState(transport.time);
  const last = useRef(shown);
  useEffect(() => transport.subscribe((t) => {
    if (transport.speed !== 0 && Math.abs(t - last.current) < SLIDER_EVERY_S) return;
    last.current = t;
    setShown(t);
  }), [transport]);
  return <Slide label="Position in the take" min={from} max={to} step={0.01} value={Math.min(Math.max(shown, from), to)} onChange={(t) => transport.seek(t)} />;
}

export function PackagePage({ me }: { me: Me }) {
  const { production, package: id } = useParams();
  const client = useQueryClient();
  const pushed = usePushed();
  const item = useQuery({ queryKey: ['package', id], queryFn: () => get<PackageOut>(`/packages/${id}`), refetchInterval: (q) => (!pushed && q.state.data?.state === 'building' ? 800 : false) });
  const [picked, setPicked] = useState(0);
  const [note, setNote] = useState('');
  const answer = useMutation({
    mutationFn: (what: 'accept' | 'return') => post<PackageOut>(`/packages/${id}/${what}`, { note }),
    onSuccess: (p) => client.setQueryData(['package', id], p),
    onSettled: () => client.invalidateQueries({ queryKey: ['packages'] }),
  });
  const p = item.data;
  const format = useMemo(() => formatOf(p?.timecode_rate ?? '30/1', p?.drop_frame ?? false), [p?.timecode_rate, p?.drop_frame]);
  const role = me.memberships.find((m) => m.production_id === Number(production))?.role;
  const answers = (role === 'animator' || role === 'supervisor') && p && ['sent', 'accepted', 'returned'].includes(p.state);
  const take = p?.takes[picked];
  const files = p?.manifest.files ?? [];
  const d = p && differences(p);
  return (
    <Frame theme={paper} me={me} productionId={Number(production)} cells={[{ what: 'handover', value: <Link to={`/p/${production}/handover`}>all packages</Link> }, { what: 'package', value: p?.name ?? '…' }]}>
      <Trouble error={item.error} />
      {p && take && (
        <Wrap>
          {take.tracks.length ? <Player key={`${take.take_id} ${p.state === 'building'}`} take={take} format={format} package={p.id} characters={playedBy(p, take)} /> : <View><p style={{ padding: 20 }}>{p.message || 'The package is being built; its motion plays here when it is ready.'}</p></View>}
          <Panel>
            <h1>{p.name}</h1>
            <Quiet>from {p.made_by}, {new Date(p.made_at).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'short' })}</Quiet>
            <h2>Takes</h2>
            <ul>
              {p.takes.map((t, i) => (
                <li key={t.take_id}>
                  <PlainButton aria-pressed={i === picked} onPress={() => setPicked(i)} style={{ borderColor: i === picked ? paper.selection : 'transparent' }}>
                    {t.slate} take {t.number}
                  </PlainButton>{' '}
                  <Quiet>{(t.out_s - t.in_s).toFixed(1)} s · {t.performers.join(', ')}</Quiet>
                </li>
              ))}
            </ul>
            {p.bytes > 0 && (
              <p><a href={`/api/packages/${p.id}/file`} download={`${p.name}.zip`}>Download {p.name}.zip, {(p.bytes / 1e6).toFixed(1)} MB</a></p>
            )}
            <h2>Files</h2>
            <ul>{files.map((f) => <li key={f.path} title={`sha256 ${f.sha256}`}>{f.path} <Quiet>{(f.bytes / 1000).toFixed(0)} kB</Quiet></li>)}</ul>
            {d && <p>Read back before sending: within <Figure>{d.mm.toFixed(4)} mm</Figure> and <Figure>{d.degrees.toFixed(5)}°</Figure>.</p>}
            {answers && (
              <>
                <h2>Your answer</h2>
                {p.state === 'accepted' && <p style={{ color: paper.good }}>✓ Accepted by {p.answered_by}{p.answer && `: “${p.answer}”`}</p>}
                {p.state === 'returned' && <p style={{ color: paper.wrong }}>↩ Sent back by {p.answered_by}: “{p.answer}”</p>}
                <TextInput label="Note" lines={3} value={note} onChange={setNote} />
                <div style={{ display: 'flex', gap: 10, marginTop: 10 }}>
                  <MainButton isDisabled={answer.isPending} onPress={() => answer.mutate('accept')}>Accept</MainButton>
                  <PlainButton isDisabled={answer.isPending} onPress={() => answer.mutate('return')}>Send back with the note</PlainButton>
                </div>
                <Trouble error={answer.error} />
              </>
            )}
          </Panel>
        </Wrap>
      )}
    </Frame>
  );
}
