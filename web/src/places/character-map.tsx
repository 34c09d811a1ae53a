import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useMemo, useState, type ReactNode } from 'react';
import { FileTrigger } from 'react-aria-components';
import styled from 'styled-components';
import { get, post, put, type CharacterOut, type MapChangeOut } from '../api/client';
import { Choice, Slide, Tick } from '../parts/choices';
import { fieldLook, Figure, Quiet, tableLook, Trouble, WordButton } from '../parts/controls';
import { inWords } from '../parts/bone-words';
import { paper } from '../theme';
import { sharedStart } from './character-words';

export const SURE = 0.7;

const Bones = styled.table`
  ${tableLook}
  table-layout: fixed;
  td,
  th {
    padding: 2px 8px 2px 0;
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

export const Scroll = styled.div`
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

const NameLine = styled.label`
  display: grid;
  grid-template-columns: 110px 1fr;
  gap: 8px;
  align-items: center;
  padding: 2px 0;
  input {
    ${fieldLook}
    padding: 2px 6px;
    min-width: 0;
  }
`;

const SHARED = ['spine', 'chest', 'upperChest', 'neck'];
const FINGER = /Thumb|Index|Middle|Ring|Little/;

const UNTURNED = [0, 0, 0];
const TURNS = ['about the side-to-side axis', 'about the upright axis', 'about the front-to-back axis'];

/** How the bone stands at rest, corrected by hand on top of what was matched; the warm-up shows at once what comes of it. */
function RestPose({ bone, given, turn }: { bone: string; given: number[] | null; turn: MapState['turn'] }) {
  const [degrees, setDegrees] = useState(given ?? UNTURNED);
  const known = given?.join();
  useEffect(() => setDegrees(known ? known.split(',').map(Number) : UNTURNED), [known]);
  const send = (wanted: number[] | null) => turn.mutate({ bone, degrees: wanted });
  return (
    <details open={given !== null}>
      <summary>Rest pose{given ? ', corrected by hand' : ''}</summary>
      {TURNS.map((words, i) => (
        <div key={words} style={{ display: 'grid', gridTemplateColumns: '1fr 130px 44px', gap: 8, alignItems: 'center' }}>
          <Quiet>{words}</Quiet>
          <Slide label={`Turn ${inWords(bone)} ${words}`} min={-180} max={180} step={1} value={Math.round(degrees[i])}
            onChange={(v) => setDegrees(degrees.map((d, k) => (k === i ? v : d)))}
            onDone={(v) => send(degrees.map((d, k) => (k === i ? v : d)))} />
          <Figure style={{ fontSize: 12 }}>{degrees[i].toFixed(0)}°</Figure>
        </div>
      ))}
      {given && <WordButton isDisabled={turn.isPending} onPress={() => send(null)}>as it was matched</WordButton>}
      <Trouble error={turn.error} />
    </details>
  );
}

type Pair = CharacterOut['map']['pairs'][number];

/** How far each bone of a chain has turned, from the bone before it, 0, to its last, 1; by their number unless somebody said otherwise. */
function sharesOf({ bone, target, shares }: Pair): number[] {
  if (shares.length) return shares;
  return target.map((_, k) => (bone === 'neck' ? (k + 1) / (target.length + 1) : (k + 1) / target.length));
}

/** The bones that one of ours moves: more of them make a chain, along which the trunk and the neck share their rotation. */
function Chain({ pair, bones, change }: { pair: Pair; bones: string[]; change: MapState['change'] }) {
  const [shares, setShares] = useState(sharesOf(pair));
  useEffect(() => setShares(sharesOf(pair)), [pair]);
  const shared = SHARED.includes(pair.bone) && pair.target.length > 1;
  const moved = (k: number, v: number) => shares.map((s, i) => (i === k ? v : i < k ? Math.min(s, v) : Math.max(s, v)));
  const send = (target: string[], own?: number[]) => change.mutate({ bone: pair.bone, target, shares: own });
  return (
    <div role="group" aria-label={`Bones that ${inWords(pair.bone)} moves`} style={{ display: 'grid', gap: 4, margin: '6px 0' }}>
      {pair.target.length > 1 && pair.target.map((name, k) => (
        <div key={name} style={{ display: 'grid', gridTemplateColumns: shared ? '1fr 124px 44px 20px' : '1fr 20px', gap: 8, alignItems: 'center' }}>
          <Figure style={{ fontSize: 12, overflow: 'hidden', textOverflow: 'ellipsis' }} title={name}>{name}</Figure>
          {shared && (
            <Slide label={`Share of ${name}`} min={0} max={1} step={0.05} value={shares[k]}
              onChange={(v) => setShares(moved(k, v))} onDone={(v) => send(pair.target, moved(k, v))} />
          )}
          {shared && <Figure style={{ fontSize: 12 }}>{Math.round(100 * shares[k])} %</Figure>}
          <WordButton aria-label={`Take ${name} out of the chain`} isDisabled={change.isPending} onPress={() => send(pair.target.filter((t) => t !== name))}>✕</WordButton>
        </div>
      ))}
      <Choice label={`Add a bone to the chain of ${inWords(pair.bone)}`} hidden empty="add a bone to the chain" value={null} isDisabled={change.isPending}
        options={bones.filter((b) => !pair.target.includes(b)).map((b) => ({ id: b, words: b }))}
        onChange={(b) => send([...pair.target, b].sort((x, y) => bones.indexOf(x) - bones.indexOf(y)))} />
    </div>
  );
}

/** Names of the tracks for rigs that take hips, hands and feet through controls. */
function Effectors({ character, onChanged }: { character: CharacterOut; onChanged: (now: CharacterOut) => void }) {
  const { effectors } = character.map;
  const named = effectors.filter((e) => e.target).length;
  const send = useMutation({
    mutationFn: (rows: typeof effectors) => put<CharacterOut>(`/characters/${character.id}/effectors`, { effectors: rows, based_on: character.map.version }),
    onSuccess: onChanged,
  });
  const list = `controls of ${character.id}`;
  return (
    <details style={{ marginTop: 8 }}>
      <summary>Effectors{named ? `, ${named} named` : ''}</summary>
      <p style={{ margin: '6px 0' }}><Quiet>For rigs that take these through controls. The name of a control moves it; any other name becomes a track of its own.</Quiet></p>
      <datalist id={list}>{character.map.unmapped.map((b) => <option key={b} value={b} />)}</datalist>
      {effectors.map((e) => (
        <Named key={e.effector} effector={e.effector} value={e.target} list={list}
          onDone={(target) => send.mutate(effectors.map((x) => (x.effector === e.effector ? { ...x, target } : x)))} />
      ))}
      <Trouble error={send.error} />
    </details>
  );
}

/** A name that is sent when it is left, or at Enter. */
function Named({ effector, value, list, onDone }: { effector: string; value: string; list: string; onDone: (value: string) => void }) {
  const [now, setNow] = useState(value);
  useEffect(() => setNow(value), [value]);
  const send = () => now.trim() !== value && onDone(now.trim());
  return (
    <NameLine>{inWords(effector)}<input type="text" list={list} maxLength={200} placeholder="not named" value={now} onChange={(e) => setNow(e.target.value)} onBlur={send} onKeyDown={(e) => e.key === 'Enter' && send()} /></NameLine>
  );
}

/** What is picked in the map, shared by the table and the picture, and the changes that both can make. */
export function useMap(character: CharacterOut, production: number) {
  const client = useQueryClient();
  const [picked, setPicked] = useState<string | null>(null);
  const [hands, setHands] = useState(false);
  // the answer is the character as it is now: its warm-up is asked for at once
  const keep = (now: CharacterOut) => client.setQueryData<CharacterOut[]>(['characters', production], (all) => all?.map((c) => (c.id === now.id ? now : c)));
  const change = useMutation({
    mutationFn: (p: { bone: string; target: string[]; shares?: number[] }) => put<CharacterOut>(`/characters/${character.id}/map`, { ...p, based_on: character.map.version }),
    onSuccess: keep,
  });
  const turn = useMutation({
    mutationFn: (p: { bone: string; degrees: number[] | null }) => put<CharacterOut>(`/characters/${character.id}/rest`, p),
    onSuccess: keep,
  });
  return { picked, setPicked, hands, setHands, keep, change, turn };
}

export type MapState = ReturnType<typeof useMap>;

export function MapTable({ character, map }: { character: CharacterOut; map: MapState }) {
  const { picked, setPicked, hands, setHands, keep, change, turn } = map;
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
          {row && <Chain key={`chain ${picked}`} pair={row} bones={character.bones} change={change} />}
          {row && <RestPose key={picked} bone={picked} given={row.rest_turn} turn={turn} />}
        </div>
      )}
      <Trouble error={change.error ?? turn.error} />
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
      <Effectors character={character} onChanged={keep} />
    </div>
  );
}

/** What has changed in the map since a version. */
function Earlier({ character, version, newest, children }: { character: number; version: number; newest: number; children: ReactNode }) {
  const found = useQuery({ queryKey: ['map version', character, version, newest], queryFn: () => get<MapChangeOut[]>(`/characters/${character}/map-versions/${version}`) });
  return (
    <div role="group" aria-label={`What has changed since v${version}`}>
      {found.isPending && <Quiet>Comparing…</Quiet>}
      {found.data?.length === 0 && <Quiet>Both say the same.</Quiet>}
      {!!found.data?.length && (
        <Scroll style={{ maxHeight: 220 }} tabIndex={0}>
          <Bones>
            <thead><tr><th /><th>v{version}</th><th>v{newest}</th></tr></thead>
            <tbody>
              {found.data.map((d) => <tr key={d.subject}><td title={d.subject}>{inWords(d.subject)}</td><td title={d.before}>{d.before}</td><td title={d.now}>{d.now}</td></tr>)}
            </tbody>
          </Bones>
        </Scroll>
      )}
      <Trouble error={found.error} />
      <div style={{ display: 'flex', gap: 16, marginTop: 6 }}>{children}</div>
    </div>
  );
}

/** The map as a file, earlier versions of it, and the map of another character of the same naming. */
export function MapTools({ character, others }: { character: CharacterOut; others: CharacterOut[] }) {
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
  const [seen, setSeen] = useState<number | null>(null);
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
      {earlier.length > 0 && <Choice label="Compare with an earlier map" empty="choose a version" options={earlier.map((v) => ({ id: v.version, words: words(v) }))} value={seen} onChange={setSeen} isDisabled={back.isPending} />}
      {seen !== null && (
        <Earlier key={`${seen} ${newest.version}`} character={character.id} version={seen} newest={newest.version}>
          <WordButton isDisabled={back.isPending} onPress={() => back.mutate(seen, { onSuccess: () => setSeen(null) })}>go back to v{seen}</WordButton>
          <WordButton onPress={() => setSeen(null)}>close</WordButton>
        </Earlier>
      )}
      {others.length > 0 && <Choice label="Take over the map of a character of the same naming" empty="choose a character" options={others.map((c) => ({ id: c.id, words: c.name }))} value={null} onChange={(id) => copy.mutate(id)} isDisabled={copy.isPending} />}
      <Quiet>Version {newest.version} is in use{newest.made_by ? `, made by ${newest.made_by}` : ''}.</Quiet>
      <Trouble error={bring.error ?? back.error ?? copy.error ?? mirror.error} />
    </div>
  );
}
