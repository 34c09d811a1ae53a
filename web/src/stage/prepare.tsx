import { useEffect, useRef, useState } from 'react';
import styled, { useTheme } from 'styled-components';
import { Figure, MainButton, PlainButton, Progress, Quiet, Trouble, WordButton } from '../parts/controls';
import { Choice, Tick } from '../parts/choices';
import { hiddenShare, type Camera } from '../optics/lens';
import { Panel, Row, StepState, Table } from './parts';
import { chord, tick } from './sound';
import type { Live } from '../queries/live';
import type { RoomDeeds, RoomOut } from '../queries/room';

type Props = { room: RoomOut; deeds: RoomDeeds; live: Live | null; canWork: boolean; cameras: Camera[]; selected: string | null; onSelect: (camera: string) => void };

const STILL_S = 10;
const HIDES_MUCH = 0.03;

/** Blinds: record the still room, see what never moves, draw and remove. */
export function BlindsStep({ room, deeds, live, canWork, cameras, selected, onSelect }: Props) {
  const recording = live?.recording && live.kind === 'still';
  const done = recording && live.seconds >= STILL_S;
  const stop = deeds.stop;
  const step = deeds.step;
  useEffect(() => {
    if (done && !stop.isPending) stop.mutate(true, { onSuccess: () => step.mutate({ name: 'find blinds' }) });
  }, [done]); // once, when ten seconds are over
  const blinds = room.blinds;
  const by = room.cameras.map((c) => ({ id: String(c.id), mine: blinds.filter((b) => b.camera === c.id) })).filter((r) => r.mine.length > 0);
  const still = room.recordings.find((r) => r.kind === 'still');
  return (
    <Panel aria-label="Blinds">
      <h2>Blinds</h2>
      <p><Quiet>Lamps, windows and other cameras’ strobes shine where no marker is. Leave the room empty for ten seconds; what never moves is masked.</Quiet></p>
      <Row>
        {recording ? (
          <PlainButton onPress={() => stop.mutate(false)}>Stop, keep nothing</PlainButton>
        ) : (
          <MainButton isDisabled={!canWork || live?.recording || deeds.record.isPending} onPress={() => deeds.record.mutate({ kind: 'still' })}>Record ten still seconds</MainButton>
        )}
        {still && !recording && <WordButton isDisabled={!canWork} onPress={() => step.mutate({ name: 'find blinds' })}>find again</WordButton>}
      </Row>
      {recording && (
        <>
          <p aria-live="polite"><Figure>{Math.min(STILL_S, live.seconds).toFixed(1)} s</Figure> of {STILL_S}. Nobody moves.</p>
          <Progress value={Math.min(1, live.seconds / STILL_S)} words="Still room" />
        </>
      )}
      <StepState run={room.runs.find((r) => r.name === 'find blinds')} onCancel={(id) => deeds.cancel.mutate(id)} />
      <Trouble error={deeds.record.error ?? deeds.stop.error ?? step.error ?? deeds.blinds.error ?? deeds.resize.error} />
      <h3>{blinds.length} blind{blinds.length === 1 ? '' : 's'} on {by.length} of {room.cameras.length} cameras</h3>
      <Row>
        <WordButton isDisabled={!canWork || !room.can_undo_blinds} onPress={() => deeds.undo.mutate(false)}>undo</WordButton>
        <WordButton isDisabled={!canWork || !room.can_redo_blinds} onPress={() => deeds.undo.mutate(true)}>redo</WordButton>
        {room.blinds_words && <Quiet>last: {room.blinds_words}</Quiet>}
      </Row>
      {by.length > 0 && (
        <Table>
          <thead><tr><th>camera</th><th>blinds</th><th title="Of what this camera sees of the working volume, 4 by 4 m and up to 2 m">hides of volume</th></tr></thead>
          <tbody>
            {by.map(({ id, mine }) => {
              const camera = cameras.find((c) => c.id === id);
              const share = camera ? hiddenShare(camera, mine) : null;
              return (
                <tr key={id} aria-selected={id === selected}>
                  <td><button onClick={() => onSelect(id)}>{id}</button></td>
                  <td>{mine.length}{mine.some((b) => b.by_hand) ? ' by hand' : ''}</td>
                  <td title={share === null ? 'Known once the cameras are solved' : undefined}>{share === null ? 'not known yet' : `${share > HIDES_MUCH ? '▲ ' : ''}${(100 * share).toFixed(1)} %`}</td>
                </tr>
              );
            })}
          </tbody>
        </Table>
      )}
      {cameras.some((c) => hiddenShare(c, blinds.filter((b) => b.camera === c.id)) > HIDES_MUCH) && (
        <p role="note" style={{ marginTop: 10 }}>▲ hides more than 3 % of what the camera sees of the volume. Cover the lamp, or turn the camera.</p>
      )}
      {room.simulated && room.recordings.length === 0 && room.calibrations.length === 0 && (
        <Row>
          <Choice label="Cameras in the simulated room" value={room.cameras.length} isDisabled={!canWork || deeds.resize.isPending} onChange={(n) => deeds.resize.mutate(n)}
            options={[8, 12, 16, 20, 24].map((n) => ({ id: n, words: `${n} cameras` }))} />
        </Row>
      )}
      <p style={{ marginTop: 12 }}><Quiet>In a picture: double-click adds a blind, dragging moves it; arrow keys, + − and Delete work on the one in focus.</Quiet></p>
    </Panel>
  );
}

const Afar = styled.div`
  position: fixed;
  inset: 0;
  z-index: 20;
  background: ${(p) => p.theme.ground};
  display: grid;
  grid-template-rows: auto 1fr auto;
  padding: 4vh 4vw;
  strong {
    font-family: ${(p) => p.theme.mono};
    font-size: 34vh;
    line-height: 1;
    font-weight: normal;
  }
  p {
    font-size: 6vh;
    line-height: 1.2;
    margin: 2vh 0;
  }
  ul {
    display: grid;
    grid-template-columns: repeat(6, 1fr);
    gap: 1.4vw;
    list-style: none;
    margin: 0;
    padding: 0;
    font-size: 3.4vh;
  }
`;

/** Sweep: the wand, live coverage, what can be heard and seen across the room. */
export function SweepStep({ room, deeds, live, canWork, selected, onSelect }: Props) {
  const theme = useTheme();
  const [wand, setWand] = useState('quay corner');
  const [own, setOwn] = useState<{ name: string; document: object } | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  const [sound, setSound] = useState(true);
  const [afar, setAfar] = useState(false);
  const file = useRef<HTMLInputElement>(null);
  const wandFile = useRef<HTMLInputElement>(null);
  const heard = useRef({ share: 0, good: false });
  const recording = Boolean(live?.recording && live.kind === 'sweep');
  const sweep = recording ? live!.sweep : null;
  useEffect(() => {
    if (!recording) {
      heard.current = { share: 0, good: false };
      return;
    }
    if (!sweep || !sound) return;
    if (sweep.good_enough && !heard.current.good) {
      heard.current.good = true;
      chord();
    } else if (sweep.share >= heard.current.share + 0.05) {
      heard.current.share = sweep.share;
      tick(sweep.share);
    }
  }, [sweep, recording, sound]);
  useEffect(() => {
    if (!afar) return undefined;
    const close = (e: KeyboardEvent) => e.key === 'Escape' && setAfar(false);
    window.addEventListener('keydown', close);
    return () => window.removeEventListener('keydown', close);
  }, [afar]);
  const readWand = async (chosen: File | undefined) => {
    if (!chosen) return;
    setProblem(null);
    try {
      const document = JSON.parse(await chosen.text()) as { name?: string };
      setOwn({ name: document.name ?? chosen.name, document });
      setWand('own');
    } catch {
      setProblem(`${chosen.name}: not valid JSON; expected a wand/1 document.`);
    }
  };
  const load = (chosen: File | undefined) => {
    if (!chosen) return;
    const form = new FormData();
    form.append('file', chosen);
    form.append('kind', 'sweep');
    if (own && wand === 'own') form.append('wand_file', new File([JSON.stringify(own.document)], 'wand.json'));
    else form.append('wand', wand);
    deeds.load.mutate(form);
  };
  const sweeps = room.recordings.filter((r) => r.kind === 'sweep');
  return (
    <Panel aria-label="Sweep">
      <h2>Sweep</h2>
      {!recording && (
        <>
          <p><Quiet>Carry the wand through the whole volume, high and low and to the edges, turning it, until every camera has seen it often and all over its picture.</Quiet></p>
          <Row>
            <Choice label="Wand" value={wand} onChange={setWand} options={[
              ...room.wands.map((w) => ({ id: w.name, words: `${w.name}, ${w.markers_m.length} markers` })),
              ...(own ? [{ id: 'own', words: `${own.name} (loaded)` }] : []),
            ]} />
            <WordButton onPress={() => wandFile.current?.click()}>load a wand…</WordButton>
            <input ref={wandFile} type="file" accept=".json" hidden aria-label="Wand file" onChange={(e) => { void readWand(e.target.files?.[0]); e.target.value = ''; }} />
          </Row>
          <Row>
            <MainButton isDisabled={!canWork || live?.recording || deeds.record.isPending}
              onPress={() => deeds.record.mutate({ kind: 'sweep', wand: wand === 'own' && own ? own.document : wand })}>Start the sweep</MainButton>
            <WordButton isDisabled={!canWork || deeds.load.isPending} onPress={() => file.current?.click()}>{deeds.load.isPending ? 'reading…' : 'load a recorded sweep…'}</WordButton>
            <input ref={file} type="file" accept=".csv,.tsv,.txt,.gz" hidden aria-label="Recorded sweep" onChange={(e) => { load(e.target.files?.[0]); e.target.value = ''; }} />
          </Row>
        </>
      )}
      <Trouble error={problem ?? deeds.record.error ?? deeds.stop.error ?? deeds.load.error} />
      {recording && (
        <>
          <div style={{ display: 'flex', alignItems: 'baseline', gap: 14 }}>
            <Figure style={{ fontSize: 44 }}>{Math.floor(100 * (sweep?.share ?? 0))} %</Figure>
            <Figure>{live!.seconds.toFixed(0)} s</Figure>
            <Quiet style={{ marginLeft: 'auto' }}>of the slowest camera</Quiet>
          </div>
          <Progress value={sweep?.share ?? 0} words="Coverage" />
          <p role="status" style={{ fontSize: 16, margin: '10px 0', minHeight: 66 }}>{sweep?.sentence ?? 'Waiting for the wand.'}</p>
          <Row>
            <MainButton isDisabled={!sweep?.good_enough || deeds.stop.isPending}
              onPress={() => deeds.stop.mutate(true, { onSuccess: () => deeds.step.mutate({ name: 'solve cameras' }) })}>Stop and solve</MainButton>
            <PlainButton isDisabled={deeds.stop.isPending} onPress={() => deeds.stop.mutate(true)}>Stop early, keep it</PlainButton>
            <WordButton onPress={() => deeds.stop.mutate(false)}>drop it</WordButton>
          </Row>
          <Row>
            <Tick isSelected={sound} onChange={setSound}>sound</Tick>
            <WordButton onPress={() => setAfar(true)}>show large, for across the room</WordButton>
          </Row>
          <Table>
            <thead><tr><th>camera</th><th title="Pictures in which the wand was recognised, of twenty looked at a second">read</th><th title="Of the cells of its picture that look into the volume">covered</th><th style={{ textAlign: 'left' }}>lacks</th></tr></thead>
            <tbody>
              {sweep?.cameras.map((c) => (
                <tr key={c.id} aria-selected={c.id === selected}>
                  <td><button onClick={() => onSelect(c.id)}>{c.id}</button></td>
                  <td>{c.readings}</td>
                  <td>{Math.round(100 * c.covered)} %</td>
                  <td style={{ textAlign: 'left', fontFamily: theme.sans, whiteSpace: 'normal' }}>{c.lacks || '✓'}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </>
      )}
      {!recording && sweeps.length > 0 && (
        <>
          <h3>Recorded</h3>
          <Table>
            <thead><tr><th>when</th><th>wand</th><th>length</th><th /></tr></thead>
            <tbody>
              {sweeps.map((r) => (
                <tr key={r.id}>
                  <td title={r.source}>{new Date(r.made_at).toLocaleTimeString([], { hour: '2-digit', minute: '2-digit', hour12: false })} {r.source === 'cameras' ? '' : '(file)'}</td>
                  <td>{r.wand}</td>
                  <td>{r.seconds.toFixed(0)} s</td>
                  <td><button disabled={!canWork} onClick={() => deeds.step.mutate({ name: 'solve cameras', parameters: { recording: r.id } })}>solve</button></td>
                </tr>
              ))}
            </tbody>
          </Table>
          <StepState run={room.runs.find((r) => r.name === 'solve cameras')} onCancel={(id) => deeds.cancel.mutate(id)} />
        </>
      )}
      {afar && recording && (
        <Afar role="dialog" aria-label="Coverage, large" onClick={() => setAfar(false)}>
          <strong style={{ color: sweep?.good_enough ? theme.good : theme.text }}>{sweep?.good_enough ? '✓ STOP' : `${Math.floor(100 * (sweep?.share ?? 0))} %`}</strong>
          <p>{sweep?.sentence}</p>
          <ul>
            {sweep?.cameras.map((c) => (
              <li key={c.id}>
                {c.lacks ? '' : '✓ '}{c.id} {Math.floor(100 * c.share)} %
                <Progress value={c.share} words={c.id} />
              </li>
            ))}
          </ul>
        </Afar>
      )}
    </Panel>
  );
}
