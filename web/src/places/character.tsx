import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useEffect, useMemo, useRef, useState } from 'react';
import { DropZone, FileTrigger, Button as AriaButton } from 'react-aria-components';
import styled, { ThemeProvider } from 'styled-components';
import { useNavigate } from 'react-router';
import { get, patch, post, put, remove, type CharacterOut, type PerformerOut } from '../api/client';
import { Choice, Slide, Tick } from '../parts/choices';
import { Figure, FormLine, PlainButton, Quiet, TextInput, Trouble, WordButton } from '../parts/controls';
import { useCharacterFiles, useOwnFile, useWarmUpOn, type WarmUpOn } from '../queries/characters';
import { useDevices } from '../queries/production';
import { paper } from '../theme';
import { Transport } from '../time/transport';
import { CharacterView } from '../view/character-view';
import type { PropView } from '../view/pose';
import { StageView } from '../view/stage-view';
import type { Threads } from '../view/threads';
import { foundOut, inWords, sharedStart } from './character-words';

type Driver = CharacterOut['map']['drivers'][number];

const SURE = 0.7;
const FRAME_S = 1 / 30;
const NO_PROPS: PropView[] = [];

const Hint = styled.p`
  position: absolute;
  inset: auto 0 0 0;
  margin: 0;
  padding: 8px 14px;
  color: ${(p) => p.theme.selection};
  pointer-events: none;
`;

const Doubts = styled.ul`
  margin: 6px 0 0;
  padding: 0;
  list-style: none;
  color: ${(p) => p.theme.wrong};
`;

const Two = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 390px;
  gap: 26px;
  margin-top: 12px;
`;

const Stage = styled.div`
  position: relative;
  height: min(56vh, 560px);
  border: 1px solid ${(p) => p.theme.hairline};
  background: ${(p) => p.theme.raised};
`;

const Bar = styled.div`
  display: flex;
  align-items: center;
  gap: 14px;
  padding: 8px 0;
`;

const Bones = styled.table`
  border-collapse: collapse;
  width: 100%;
  table-layout: fixed;
  th {
    text-align: left;
    font-weight: normal;
    color: ${(p) => p.theme.quiet};
    font-size: 12px;
  }
  td,
  th {
    padding: 2px 8px 2px 0;
    border-bottom: 1px solid ${(p) => p.theme.hairline};
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  tr[data-picked='true'] td {
    background: ${(p) => p.theme.picked};
  }
  td button {
    font: inherit;
    color: inherit;
    background: none;
    border: 0;
    padding: 2px 0;
    cursor: pointer;
    text-align: left;
    width: 100%;
  }
`;

const Scroll = styled.div`
  max-height: calc(100vh - 330px);
  overflow: auto;
`;

const Meter = styled.span<{ $good: boolean }>`
  display: inline-block;
  width: 44px;
  height: 5px;
  background: ${(p) => p.theme.hairline};
  vertical-align: middle;
  span {
    display: block;
    height: 100%;
    background: ${(p) => (p.$good ? p.theme.good : p.theme.wrong)};
  }
`;

const FINGER = /Thumb|Index|Middle|Ring|Little/;

const TURNS = ['about the side-to-side axis', 'about the upright axis', 'about the front-to-back axis'];

/** How the bone stands at rest, corrected by hand on top of what was matched; the warm-up shows at once what comes of it. */
function RestPose({ character, bone, byHand, onChanged }: { character: CharacterOut; bone: string; byHand: boolean; onChanged: (now: CharacterOut) => void }) {
  const [degrees, setDegrees] = useState([0, 0, 0]);
  const turn = useMutation({
    mutationFn: (wanted: number[] | null) => put<CharacterOut>(`/characters/${character.id}/rest`, { bone, degrees: wanted }),
    onSuccess: onChanged,
  });
  return (
    <details open={byHand}>
      <summary>Rest pose{byHand ? ', corrected by hand' : ''}</summary>
      {TURNS.map((words, i) => (
        <div key={words} style={{ display: 'grid', gridTemplateColumns: '1fr 130px 44px', gap: 8, alignItems: 'center' }}>
          <Quiet>{words}</Quiet>
          <Slide label={`Turn ${inWords(bone)} ${words}`} min={-90} max={90} step={1} value={degrees[i]}
            onChange={(v) => setDegrees(degrees.map((d, k) => (k === i ? v : d)))}
            onDone={(v) => turn.mutate(degrees.map((d, k) => (k === i ? v : d)))} />
          <Figure style={{ fontSize: 12 }}>{degrees[i]}°</Figure>
        </div>
      ))}
      {byHand && <WordButton isDisabled={turn.isPending} onPress={() => { setDegrees([0, 0, 0]); turn.mutate(null); }}>as it was matched</WordButton>}
      <Trouble error={turn.error} />
    </details>
  );
}

/** What is picked in the map, shared by the table and the picture, and the changes that both can make. */
function useMap(character: CharacterOut, production: number) {
  const client = useQueryClient();
  const [picked, setPicked] = useState<string | null>(null);
  const [hands, setHands] = useState(false);
  // the answer is the character as it is now: its warm-up is asked for at once
  const keep = (now: CharacterOut) => client.setQueryData<CharacterOut[]>(['characters', production], (all) => all?.map((c) => (c.id === now.id ? now : c)));
  const change = useMutation({
    mutationFn: (p: { bone: string; target: string[] }) => put<CharacterOut>(`/characters/${character.id}/map`, p),
    onSuccess: keep,
  });
  return { picked, setPicked, hands, setHands, keep, change };
}

type MapState = ReturnType<typeof useMap>;

function MapTable({ character, map }: { character: CharacterOut; map: MapState }) {
  const { picked, setPicked, hands, setHands, keep, change } = map;
  const rows = useMemo(() => {
    const shown = character.map.pairs.filter((p) => hands || !FINGER.test(p.bone) || p.doubt || p.confidence < SURE);
    const doubtful = (p: (typeof shown)[number]) => Number(p.doubt !== '' || p.confidence < SURE);
    return shown.map((p, i) => ({ p, i })).sort((a, b) => doubtful(b.p) - doubtful(a.p) || a.i - b.i).map(({ p }) => p);
  }, [character.map.pairs, hands]);
  const sure = character.map.pairs.filter((p) => !p.doubt && p.confidence >= SURE).length;
  const missing = character.map.missing.filter((b) => hands || !FINGER.test(b));
  const row = character.map.pairs.find((p) => p.bone === picked);
  const start = useMemo(() => sharedStart(character.bones), [character.bones]);
  const short = (targets: string[]) => targets.map((t) => t.slice(start.length)).join(' · ');
  return (
    <div>
      <div style={{ display: 'flex', alignItems: 'baseline', gap: 12 }}>
        <h2 style={{ margin: 0, fontSize: 15 }}>Bones</h2>
        <Quiet>{sure} of {character.map.pairs.length} sure · map v{character.map.version}</Quiet>
        <span style={{ marginLeft: 'auto' }}><Tick isSelected={hands} onChange={setHands}>Hands</Tick></span>
      </div>
      {picked && (
        <div style={{ padding: '6px 0 10px' }}>
          <Choice
            label={`${inWords(picked)} moves`}
            options={[{ id: '', words: 'nothing' }, ...character.bones.map((b) => ({ id: b, words: b }))]}
            value={row?.target[0] ?? ''}
            isDisabled={change.isPending}
            onChange={(target) => change.mutate({ bone: picked, target: target ? [target] : [] })}
          />
          {row?.doubt && <p style={{ margin: '6px 0 0', color: paper.wrong }}>{row.doubt}</p>}
          {row && <RestPose key={picked} character={character} bone={picked} byHand={row.rest_by_hand} onChanged={keep} />}
        </div>
      )}
      <Trouble error={change.error} />
      {start && <Quiet style={{ display: 'block' }}>all names begin with {start}</Quiet>}
      <Scroll tabIndex={0} role="group" aria-label="Map sheet">
        <Bones>
          <colgroup><col style={{ width: '31%' }} /><col style={{ width: '34%' }} /><col style={{ width: '17%' }} /><col style={{ width: '18%' }} /></colgroup>
          <thead><tr><th>performer</th><th>character</th><th>how sure</th><th>off T-pose</th></tr></thead>
          <tbody>
            {rows.map((p) => (
              <tr key={p.bone} data-picked={p.bone === picked} title={p.doubt}>
                <td><button type="button" aria-pressed={p.bone === picked} onClick={() => setPicked(p.bone === picked ? null : p.bone)}>{inWords(p.bone)}</button></td>
                <td><Figure style={{ fontSize: 12 }} title={p.target.join(' · ')}>{short(p.target)}</Figure></td>
                <td><Meter $good={!p.doubt && p.confidence >= SURE} role="img" aria-label={`${Math.round(100 * p.confidence)} % sure`}><span style={{ width: `${100 * p.confidence}%` }} /></Meter></td>
                <td>{p.degrees !== null && p.degrees >= 1 ? <Figure style={{ fontSize: 12 }}>{p.degrees.toFixed(0)}°</Figure> : ''}</td>
              </tr>
            ))}
            {missing.map((b) => (
              <tr key={b} data-picked={b === picked}>
                <td><button type="button" aria-pressed={b === picked} onClick={() => setPicked(b === picked ? null : b)}><Quiet>{inWords(b)}</Quiet></button></td>
                <td colSpan={3}><Quiet>not there</Quiet></td>
              </tr>
            ))}
          </tbody>
        </Bones>
      </Scroll>
      {character.map.unmapped.length > 0 && <p style={{ margin: '8px 0 0' }}><Quiet title={character.map.unmapped.join(', ')}>{character.map.unmapped.length === 1 ? '1 bone is' : `${character.map.unmapped.length} bones are`} left at rest{character.map.helpers ? `, ${character.map.helpers} twist with their limb` : ''}.</Quiet></p>}
    </div>
  );
}

const WAYS = [
  { id: 'alone', words: 'alone' },
  { id: 'beside', words: 'beside the performer' },
  { id: 'over', words: 'over the performer' },
];
const ASIDE_M = 1.4;
const NOBODY: string[] = [];

/** The figures by which a map is judged in motion, and the places worth a look. */
function Judgement({ moving, transport }: { moving: WarmUpOn; transport: Transport }) {
  const f = moving.about.figures;
  const arms = f.directions_deg.arms;
  const said = [
    arms === undefined ? '' : `arms within ${arms.toFixed(1)}°`,
    `feet slide ${f.slide_mm.toFixed(1)} mm`,
    f.sink_mm >= 0.1 ? `soles ${f.sink_mm.toFixed(1)} mm under the floor` : 'soles on the floor',
    `knees snap in ${(100 * f.knee_snap_share).toFixed(1)} %`,
    f.flips ? `${f.flips} flips` : 'no flips',
  ].filter(Boolean);
  return (
    <div>
      <Figure style={{ fontSize: 12.5 }} aria-label="How the warm-up follows">{said.join(' · ')}</Figure>
      {moving.about.snags.length > 0 && (
        <Doubts aria-label="Worth a look">
          {moving.about.snags.slice(0, 4).map((s) => (
            <li key={`${s.text} ${s.start_s}`}><WordButton onPress={() => { transport.stop(); transport.seek((s.start_s + s.end_s) / 2); }}>{s.text}</WordButton></li>
          ))}
        </Doubts>
      )}
    </div>
  );
}

function WarmUp({ character, performers, map }: { character: CharacterOut; performers: PerformerOut[]; map: MapState }) {
  const ready = performers.filter((p) => p.calibrations.length > 0);
  const first = ready.find((p) => character.player_ids.includes(p.id)) ?? ready[0];
  const [chosen, setChosen] = useState<number | null>(null);
  const [way, setWay] = useState('beside');
  const [withThreads, setThreads] = useState(true);
  const performer = chosen ?? first?.id ?? null;
  const moving = useWarmUpOn(character, performer);
  const [transport] = useState(() => new Transport(1, FRAME_S));
  const upright = useMemo(() => ({ scale: character.scale, rotation_xyzw: character.rotation_xyzw }), [character.scale, character.rotation_xyzw]);
  const one = useMemo(() => [character], [character]);
  const files = useCharacterFiles(one);
  const [shown, setShown] = useState(0);
  const last = useRef(0);
  useEffect(() => {
    if (moving.data) transport.duration = moving.data.seconds;
  }, [moving.data, transport]);
  useEffect(() => transport.subscribe((t) => {
    if (transport.speed !== 0 && Math.abs(t - last.current) < 0.1) return;
    last.current = t;
    setShown(t);
  }), [transport]);
  useEffect(() => () => transport.stop(), [transport]);
  const resting = useOwnFile(character, !ready.length);
  const file = files.get(character.name) ?? null;
  const characters = useMemo(
    () => (moving.data ? [{ motion: moving.data.character, file, aside: way === 'beside' ? ASIDE_M : 0 }] : []),
    [moving.data, file, way],
  );
  const bodies = useMemo(() => (moving.data && way !== 'alone' ? [moving.data.performer] : []), [moving.data, way]);
  const { picked, hands, setPicked } = map;
  const { mutate, isPending } = map.change;
  const threads = useMemo(
    (): Threads | null =>
      withThreads && way === 'beside'
        ? {
            pairs: character.map.pairs.map((p) => ({ bone: p.bone, targets: p.target, doubtful: p.doubt !== '' || p.confidence < SURE })),
            picked, fingers: hands, onPick: setPicked,
            onTarget: (target) => picked && !isPending && mutate({ bone: picked, target: [target] }),
          }
        : null,
    [withThreads, way, character.map.pairs, picked, hands, setPicked, mutate, isPending],
  );
  if (!ready.length)
    return (
      <Stage>
        {resting.data && <CharacterView bytes={resting.data} upright={upright} transport={transport} label={`${character.name} at rest`} caption="At rest. Once a performer is calibrated, their warm-up moves here, every joint through its range." />}
        {character.skinned && resting.isPending && <p style={{ padding: 16 }}>Fetching {character.name}…</p>}
        {!character.skinned && <p style={{ padding: 16 }}>A skeleton without a skin. Once a performer is calibrated, their warm-up moves here.</p>}
        {resting.error && <div style={{ padding: 16 }}><Trouble error={resting.error} /></div>}
      </Stage>
    );
  const name = ready.find((p) => p.id === performer)?.name ?? '';
  return (
    <div>
      <Stage role="group" aria-label={`${name}'s warm-up on ${character.name}`}>
        {moving.data && (
          <StageView
            caption={character.skinned && !file ? `Fetching ${character.name}…` : `${name}’s warm-up on ${character.name}`}
            bodies={bodies} characters={characters} threads={threads} markers={null} props={NO_PROPS} ghost={null} names={NOBODY} transport={transport} selected={null} onSelect={() => {}}
          />
        )}
        {threads && picked && <Hint>{inWords(picked)}: click a joint of {character.name}, or choose in the table</Hint>}
        {moving.isPending && <p style={{ padding: 16 }} aria-live="polite">Putting {name}’s warm-up on {character.name}…</p>}
        {moving.error && <div style={{ padding: 16 }}><Trouble error={moving.error} /></div>}
      </Stage>
      <Bar>
        <PlainButton onPress={() => transport.toggle()} aria-label="Play or stop">▶ / ■</PlainButton>
        <Slide label="Position in the warm-up" min={0} max={transport.duration} step={0.01} value={Math.min(shown, transport.duration)} onChange={(t) => transport.seek(t)} />
        <Figure style={{ whiteSpace: 'nowrap' }}>{shown.toFixed(1)} s</Figure>
        {ready.length > 1 && <Choice label="Whose warm-up" hidden options={ready.map((p) => ({ id: p.id, words: `${p.name}’s warm-up` }))} value={performer} onChange={setChosen} style={{ minWidth: 170 }} />}
      </Bar>
      <div role="group" aria-label="How it is shown" style={{ display: 'flex', gap: 16, marginBottom: 8 }}>
        {WAYS.map((w) => <WordButton key={w.id} $on={w.id === way} aria-pressed={w.id === way} onPress={() => setWay(w.id)}>{w.words}</WordButton>)}
        {way === 'beside' && <WordButton $on={withThreads} aria-pressed={withThreads} onPress={() => setThreads(!withThreads)} style={{ marginLeft: 'auto' }}>threads</WordButton>}
      </div>
      {moving.data && <Judgement moving={moving.data} transport={transport} />}
    </div>
  );
}

/** Which face shapes of the performer move which of the character's, and how far. Several may move one. */
function FaceTable({ character, keep }: { character: CharacterOut; keep: (now: CharacterOut) => void }) {
  const { drivers } = character.map;
  const change = useMutation({
    mutationFn: (rows: Driver[]) => put<CharacterOut>(`/characters/${character.id}/shapes`, { drivers: rows }),
    onSuccess: keep,
  });
  const replace = (driver: Driver, by: Driver | null) => change.mutate(drivers.flatMap((d) => (d === driver ? (by ? [by] : []) : [d])));
  const add = (target: string, shape: string) => change.mutate([...drivers, { shape, target, gain: 1, offset: 0, low: 0, high: 1 }]);
  const face = useDevices().data?.find((d) => d.id === 'face');
  const ours = (face?.channels ?? []).map((id) => ({ id, words: inWords(id) }));
  const driven = character.shapes.filter((t) => drivers.some((d) => d.target === t));
  const rows = [...character.shapes.filter((t) => !driven.includes(t)), ...driven];
  return (
    <div>
      <div style={{ display: 'flex', alignItems: 'baseline', gap: 12 }}>
        <h2 style={{ margin: 0, fontSize: 15 }}>Face shapes</h2>
        <Quiet>{driven.length} of {character.shapes.length} move · map v{character.map.version}</Quiet>
      </div>
      <Trouble error={change.error} />
      <Scroll tabIndex={0} role="group" aria-label="Face sheet">
        {rows.map((target) => (
          <div key={target} role="group" aria-label={target} style={{ padding: '6px 0', borderBottom: `1px solid ${paper.hairline}` }}>
            <Figure style={{ fontSize: 12, overflowWrap: 'anywhere' }}>{target}</Figure>
            {drivers.filter((d) => d.target === target).map((d) => (
              <div key={d.shape} style={{ display: 'grid', gridTemplateColumns: '1fr 124px 44px 20px', gap: 8, alignItems: 'center' }}>
                <Quiet>{inWords(d.shape)}</Quiet>
                <Gain label={`Gain of ${inWords(d.shape)} on ${target}`} value={d.gain} onDone={(gain) => replace(d, { ...d, gain })} />
                <Figure style={{ fontSize: 12 }}>×{d.gain.toFixed(2)}</Figure>
                <WordButton aria-label={`Take ${inWords(d.shape)} off ${target}`} isDisabled={change.isPending} onPress={() => replace(d, null)}>✕</WordButton>
              </div>
            ))}
            <Choice label={`Another shape that moves ${target}`} hidden empty="add a shape that moves it" options={ours.filter((o) => !drivers.some((d) => d.target === target && d.shape === o.id))} value={null} isDisabled={change.isPending} onChange={(shape) => add(target, shape)} />
          </div>
        ))}
        {character.shapes.length === 0 && <p><Quiet>This file has no face shapes. Eyes and jaw move by their bones, where it has them.</Quiet></p>}
      </Scroll>
    </div>
  );
}

/** A gain that is sent when the slider is let go. */
function Gain({ label, value, onDone }: { label: string; value: number; onDone: (value: number) => void }) {
  const [now, setNow] = useState(value);
  useEffect(() => setNow(value), [value]);
  return <Slide label={label} min={0} max={2} step={0.05} value={now} onChange={setNow} onDone={onDone} />;
}

/** The map as a file, earlier versions of it, and the map of another character of the same naming. */
function MapTools({ character, others }: { character: CharacterOut; others: CharacterOut[] }) {
  const client = useQueryClient();
  const done = () => client.invalidateQueries({ queryKey: ['characters'] });
  const bring = useMutation({
    mutationFn: (file: File) => {
      const form = new FormData();
      form.append('file', file);
      return post<CharacterOut>(`/characters/${character.id}/map-document`, form);
    },
    onSuccess: done,
  });
  const copy = useMutation({
    mutationFn: async (from: number) => {
      const document = await get<object>(`/characters/${from}/map-document`);
      return bring.mutateAsync(new File([JSON.stringify(document)], `${others.find((c) => c.id === from)?.name ?? ''}'s map`));
    },
  });
  const back = useMutation({ mutationFn: (version: number) => put<CharacterOut>(`/characters/${character.id}/map-version`, { version }), onSuccess: done });
  const mirror = useMutation({ mutationFn: (side: string) => put<CharacterOut>(`/characters/${character.id}/mirror`, { side }), onSuccess: done });
  const [newest, ...earlier] = character.map.versions;
  const words = (v: (typeof earlier)[number]) => `v${v.version}, ${new Date(v.made_at).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'short' })}${v.made_by ? `, ${v.made_by}` : ''}`;
  return (
    <div style={{ marginTop: 10, display: 'grid', gap: 8 }}>
      <div style={{ display: 'flex', gap: 16, alignItems: 'baseline', flexWrap: 'wrap' }}>
        {earlier.length > 0 && <WordButton isDisabled={back.isPending} onPress={() => back.mutate(earlier[0].version)}>undo, back to v{earlier[0].version}</WordButton>}
        <WordButton isDisabled={mirror.isPending} onPress={() => mirror.mutate('left')}>left onto right</WordButton>
        <WordButton isDisabled={mirror.isPending} onPress={() => mirror.mutate('right')}>right onto left</WordButton>
        <a href={`/api/characters/${character.id}/map-document`} download>save the map</a>
        <FileTrigger acceptedFileTypes={['.json']} onSelect={(files) => files?.[0] && bring.mutate(files[0])}><WordButton>load a map</WordButton></FileTrigger>
      </div>
      {earlier.length > 1 && <Choice label="Go back to an earlier map" empty="choose a version" options={earlier.map((v) => ({ id: v.version, words: words(v) }))} value={null} onChange={(v) => back.mutate(v)} isDisabled={back.isPending} />}
      {others.length > 0 && <Choice label="Take over the map of a character of the same naming" empty="choose a character" options={others.map((c) => ({ id: c.id, words: c.name }))} value={null} onChange={(id) => copy.mutate(id)} isDisabled={copy.isPending} />}
      <Quiet>Version {newest.version} is in use{newest.made_by ? `, made by ${newest.made_by}` : ''}.</Quiet>
      <Trouble error={bring.error ?? back.error ?? copy.error ?? mirror.error} />
    </div>
  );
}

/** The character's name, to be changed, and the way to be rid of it. */
function Name({ character, production }: { character: CharacterOut; production: number }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [doing, setDoing] = useState<'' | 'rename' | 'remove'>('');
  const [name, setName] = useState(character.name);
  const done = () => client.invalidateQueries({ queryKey: ['characters', production] });
  const rename = useMutation({ mutationFn: () => patch<CharacterOut>(`/characters/${character.id}`, { name }), onSuccess: () => { setDoing(''); return done(); } });
  const drop = useMutation({ mutationFn: () => remove(`/characters/${character.id}`), onSuccess: () => { navigate(`/p/${production}/cast`); return done(); } });
  if (doing === 'rename')
    return (
      <FormLine onSubmit={(e) => { e.preventDefault(); rename.mutate(); }}>
        <TextInput label="Name" value={name} onChange={setName} isRequired maxLength={60} autoFocus />
        <PlainButton type="submit" isDisabled={rename.isPending}>Rename</PlainButton>
        <WordButton onPress={() => setDoing('')}>never mind</WordButton>
        <Trouble error={rename.error} />
      </FormLine>
    );
  return (
    <>
      <h1 style={{ margin: 0, fontSize: 22, overflowWrap: 'anywhere' }}>{character.name}</h1>
      {doing === 'remove' ? (
        <span role="group" aria-label="Remove the character" style={{ display: 'inline-flex', gap: 12, alignItems: 'baseline' }}>
          Remove {character.name}, its map and its motions? Packages keep theirs.
          <PlainButton autoFocus isDisabled={drop.isPending} onPress={() => drop.mutate()}>Remove</PlainButton>
          <WordButton onPress={() => setDoing('')}>keep it</WordButton>
          <Trouble error={drop.error} />
        </span>
      ) : (
        <span style={{ display: 'inline-flex', gap: 12, order: 9 }}>
          <WordButton onPress={() => setDoing('rename')}>rename</WordButton>
          <WordButton onPress={() => setDoing('remove')}>remove</WordButton>
        </span>
      )}
    </>
  );
}

export function CharacterDetail({ character, others, performers, production }: { character: CharacterOut; others: CharacterOut[]; performers: PerformerOut[]; production: number }) {
  const client = useQueryClient();
  const map = useMap(character, production);
  const [face, setFace] = useState(false);
  const plays = useMutation({
    mutationFn: (ids: number[]) => put<CharacterOut>(`/characters/${character.id}/players`, { performer_ids: ids }),
    onSuccess: () => client.invalidateQueries({ queryKey: ['characters', production] }),
  });
  return (
    <div style={{ minWidth: 0 }}>
      <div style={{ display: 'flex', alignItems: 'baseline', gap: 16, flexWrap: 'wrap' }}>
        <Name character={character} production={production} />
        <span><Figure>{character.height_m.toFixed(2)}</Figure> m</span>
        <Quiet>{character.file_name} · {character.bones.length} bones · {character.shapes.length} face shapes · {foundOut(character)}</Quiet>
      </div>
      {character.notes.map((n) => <p key={n} style={{ margin: '4px 0 0' }}><Quiet>{n}</Quiet></p>)}
      <Bar role="group" aria-label="Played by">
        <Quiet>Played by</Quiet>
        {performers.map((p) => (
          <Tick key={p.id} isSelected={character.player_ids.includes(p.id)} isDisabled={plays.isPending} onChange={(on) => plays.mutate(on ? [...character.player_ids, p.id] : character.player_ids.filter((id) => id !== p.id))}>{p.name}</Tick>
        ))}
        {!character.player_ids.length && performers.length > 0 && <Quiet>nobody yet: takes leave without this character</Quiet>}
      </Bar>
      <Trouble error={plays.error} />
      <ThemeProvider theme={paper}>
        <Two>
          <WarmUp character={character} performers={performers} map={map} />
          <div>
            {character.shapes.length > 0 && (
              <div role="group" aria-label="What is mapped" style={{ display: 'flex', gap: 16, marginBottom: 8 }}>
                <WordButton $on={!face} aria-pressed={!face} onPress={() => setFace(false)}>Bones</WordButton>
                <WordButton $on={face} aria-pressed={face} onPress={() => setFace(true)}>Face shapes</WordButton>
              </div>
            )}
            {face ? <FaceTable character={character} keep={map.keep} /> : <MapTable character={character} map={map} />}
            <MapTools character={character} others={others} />
          </div>
        </Two>
      </ThemeProvider>
    </div>
  );
}

const Dropping = styled(DropZone)`
  display: grid;
  gap: 8px;
  justify-items: start;
  padding: 22px;
  border: 1px dashed ${(p) => p.theme.quiet};
  max-width: 560px;
  &[data-drop-target] {
    background: ${(p) => p.theme.picked};
    border-color: ${(p) => p.theme.selection};
  }
`;

const Pick = styled(AriaButton)`
  font: inherit;
  color: ${(p) => p.theme.onSelection};
  background: ${(p) => p.theme.selection};
  border: 0;
  border-radius: 3px;
  padding: 7px 14px;
  cursor: pointer;
`;

export function NewCharacter({ production, onDone }: { production: number; onDone: (id?: number) => void }) {
  const client = useQueryClient();
  const add = useMutation({
    mutationFn: (file: File) => {
      const form = new FormData();
      form.append('file', file);
      return post<CharacterOut>(`/productions/${production}/characters`, form);
    },
    onSuccess: async (c) => {
      await client.invalidateQueries({ queryKey: ['characters', production] });
      onDone(c.id);
    },
  });
  const take = (file: File | null | undefined) => file && add.mutate(file);
  return (
    <div>
      <h1 style={{ margin: '0 0 12px', fontSize: 22 }}>New character</h1>
      <Dropping aria-label="Drop a character file" onDrop={async (e) => {
        const item = e.items.find((i) => i.kind === 'file');
        if (item && item.kind === 'file') take(await item.getFile());
      }}>
        <span>Drop the file the animators sent: GLB, VRM, BVH or USD.</span>
        <FileTrigger acceptedFileTypes={['.glb', '.vrm', '.bvh', '.usda', '.usdc', '.usdz', '.usd']} onSelect={(files) => take(files?.[0])}>
          <Pick isDisabled={add.isPending}>Choose a file</Pick>
        </FileTrigger>
        <Quiet>Its map is proposed at once. The file itself is kept as it is.</Quiet>
      </Dropping>
      {add.isPending && <p aria-live="polite">Reading the character and proposing its map…</p>}
      <Trouble error={add.error} />
      <p><WordButton onPress={() => onDone()}>never mind</WordButton></p>
    </div>
  );
}
