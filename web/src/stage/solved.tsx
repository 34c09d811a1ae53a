import { useQuery } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { useTheme } from 'styled-components';
import { get, type Schemas } from '../api/client';
import { Figure, MainButton, PlainButton, Progress, Quiet, Trouble, WordButton } from '../parts/controls';
import { Choice, Tick } from '../parts/choices';
import { Big, Facts, Panel, Row, StepState, Table } from './parts';
import type { Live } from '../queries/live';
import { useTrust, type CalibrationOut, type RoomDeeds, type RoomOut } from '../queries/room';

type Props = {
  room: RoomOut;
  deeds: RoomDeeds;
  live: Live | null;
  canWork: boolean;
  calibration: CalibrationOut | undefined;
  selected: string | null;
  onSelect: (camera: string) => void;
};


/** Cameras: what solving gave, camera by camera and for the whole volume. */
export function CamerasStep({ room, deeds, canWork, calibration, selected, onSelect }: Props) {
  const f = calibration?.figures;
  const rows = calibration?.rows ?? [];
  const rms = f?.reprojection_rms_px;
  const failed = Object.entries(calibration?.failed ?? {});
  const sweep = room.recordings.find((r) => r.kind === 'sweep');
  const cameras = calibration?.cameras ?? [];
  return (
    <Panel aria-label="Cameras">
      <h2>Solve the cameras</h2>
      <Row>
        <MainButton isDisabled={!canWork || !sweep} onPress={() => deeds.step.mutate({ name: 'solve cameras' })}>Solve from the newest sweep</MainButton>
      </Row>
      {!sweep && <p><Quiet>There is no sweep yet; record one in the step before.</Quiet></p>}
      <StepState run={room.runs.find((r) => r.name === 'solve cameras')} onCancel={(id) => deeds.cancel.mutate(id)} />
      <Trouble error={deeds.step.error} />
      {calibration && (
        <>
          <div style={{ display: 'grid', gridTemplateColumns: '1fr 1fr', gap: 10 }}>
            <Big value={rms?.toFixed(3) ?? '–'} unit="px" words="reprojection, RMS" why="How far a sighting lies from where the solved cameras put it, per coordinate. It should be the noise of the centroids, about 0.1 px." />
            <Big value={`${cameras.length} of ${room.cameras.length}`} words="cameras solved" />
            <Big value={f?.position_limit_mm?.toFixed(2) ?? '–'} unit="mm" words="camera positions, expected" why="Standard deviation of the cameras’ positions that the sightings allow, from the propagated covariance." />
            <Big value={f?.wand_rms_mm?.toFixed(2) ?? '–'} unit="mm" words="wand lengths, RMS" why="The wand’s distances, each marker triangulated on its own, against its description." />
          </div>
          {failed.map(([id, reason]) => <p key={id} role="note">✕ <strong>{id}</strong>: {reason}</p>)}
          {calibration.notes.map((n) => <p key={n}><Quiet>{n}</Quiet></p>)}
          <h3>Cameras. Pick one to see its residuals over the picture.</h3>
          <Table>
            <thead>
              <tr><th>camera</th><th title="Reprojection RMS, pixels">px</th><th title="Sightings used">used</th><th title="Sightings left out">out</th><th title="Of the picture's cells">covered</th><th title="Focal length and its standard deviation, pixels">focal ±</th></tr>
            </thead>
            <tbody>
              {rows.map((r) => {
                const camera = cameras.find((c) => c.id === r.id);
                return (
                  <tr key={r.id} aria-selected={r.id === selected}>
                    <td><button onClick={() => onSelect(r.id)}>{r.id}</button></td>
                    <td>{r.reprojection_rms_px?.toFixed(3) ?? '–'}</td>
                    <td>{r.samples.toLocaleString('en').replace(',', ' ')}</td>
                    <td>{r.rejected}</td>
                    <td>{Math.round(100 * r.covered)} %</td>
                    <td title={`centre ±${r.centre_sd_px.toFixed(2)} px, place ±${r.position_sd_mm.toFixed(2)} mm`}>{camera ? `${camera.focal_px[0].toFixed(1)} ±${r.focal_sd_px.toFixed(2)}` : '–'}</td>
                  </tr>
                );
              })}
            </tbody>
          </Table>
          <h3>Wand</h3>
          <Table>
            <thead><tr><th>between</th><th>said</th><th>measured</th><th>sd</th></tr></thead>
            <tbody>
              {(f?.distances ?? []).map((d) => (
                <tr key={`${d.first} ${d.last}`}><td>{d.first} – {d.last}</td><td>{d.said_mm.toFixed(1)}</td><td>{d.mean_mm.toFixed(2)}</td><td>{d.sd_mm.toFixed(2)} mm</td></tr>
              ))}
            </tbody>
          </Table>
          <Facts rows={[
            ['error, mean', `${f?.wand_mean_mm?.toFixed(3) ?? '–'} mm`],
            ['sd', `${f?.wand_sd_mm?.toFixed(3) ?? '–'} mm`],
            ['worst', `${f?.wand_worst_mm?.toFixed(2) ?? '–'} mm`],
          ]} />
        </>
      )}
    </Panel>
  );
}

const FLOOR_S = 3;

/** Origin and level: the wand at rest, markers on the floor, and turning or raising by hand. */
export function LevelStep({ room, deeds, live, canWork, calibration }: Props) {
  const theme = useTheme();
  const [wand, setWand] = useState('quay corner');
  const [radius, setRadius] = useState(7);
  const [withFloor, setWithFloor] = useState(true);
  const [raise, setRaise] = useState(5);
  const kind = live?.recording && (live.kind === 'wand on floor' || live.kind === 'floor markers') ? live.kind : null;
  const done = kind !== null && live!.seconds >= FLOOR_S;
  const stop = deeds.stop;
  useEffect(() => {
    if (done && !stop.isPending) stop.mutate(true);
  }, [done]); // once, when it is long enough
  const onFloor = room.recordings.find((r) => r.kind === 'wand on floor');
  const floor = room.recordings.find((r) => r.kind === 'floor markers');
  const level = calibration?.figures.level;
  const heights = level?.floor_heights_mm ?? [];
  const tallest = Math.max(1, ...heights.map(Math.abs));
  const at = (when: string) => new Date(when).toLocaleTimeString([], { hour: '2-digit', minute: '2-digit', hour12: false });
  return (
    <Panel aria-label="Origin and level">
      <h2>Origin and level</h2>
      <p><Quiet>Lay the wand down in the middle: its corner is the origin, its long arm points to the front. Then scatter a handful of markers over the floor.</Quiet></p>
      <Row>
        <Choice label="Wand" options={room.wands.map((w) => ({ id: w.name, words: w.name }))} value={wand} onChange={setWand} />
      </Row>
      <Row>
        <PlainButton isDisabled={!canWork || live?.recording} onPress={() => deeds.record.mutate({ kind: 'wand on floor', wand })}>Record the wand</PlainButton>
        <Quiet>{onFloor ? `${onFloor.wand}, ${at(onFloor.made_at)}` : 'not recorded yet'}</Quiet>
      </Row>
      <Row>
        <PlainButton isDisabled={!canWork || live?.recording} onPress={() => deeds.record.mutate({ kind: 'floor markers' })}>Record floor markers</PlainButton>
        <Quiet>{floor ? at(floor.made_at) : 'not recorded yet'}</Quiet>
      </Row>
      {kind && (
        <div aria-live="polite">
          <p>Recording the {kind}, <Figure>{Math.min(FLOOR_S, live!.seconds).toFixed(1)} s</Figure> of {FLOOR_S}.</p>
          <Progress value={Math.min(1, live!.seconds / FLOOR_S)} words={kind} />
        </div>
      )}
      <Row>
        <label>marker radius <input type="number" min={0} max={40} step={0.5} value={radius} onChange={(e) => setRadius(Number(e.target.value))} /> mm</label>
        <Tick isSelected={withFloor} isDisabled={!floor} onChange={setWithFloor}>level by the floor markers</Tick>
      </Row>
      <Row>
        <MainButton isDisabled={!canWork || !onFloor || !calibration}
          onPress={() => deeds.step.mutate({ name: 'level', parameters: { marker_radius_mm: radius, with_floor: withFloor, calibration: calibration?.row.id } })}>
          Level version {calibration?.row.version ?? '–'}
        </MainButton>
      </Row>
      <StepState run={room.runs.find((r) => r.name === 'level')} onCancel={(id) => deeds.cancel.mutate(id)} />
      <Trouble error={deeds.record.error ?? deeds.stop.error ?? deeds.step.error ?? deeds.adjust.error} />
      {level && (
        <>
          <div style={{ display: 'grid', gridTemplateColumns: '1fr 1fr', gap: 10 }}>
            <Big value={level.floor_rms_mm?.toFixed(2) ?? '–'} unit="mm" words="floor markers off the plane, RMS" />
            <Big value={level.wand_tilt_deg == null ? '–' : level.wand_tilt_deg.toFixed(3)} unit="°" words="wand against the floor" />
          </div>
          {heights.length > 0 && (
            <>
              <h3>Height of each floor marker over the plane, mm{level.bulge_mm != null ? `. The middle is ${Math.abs(level.bulge_mm).toFixed(1)} mm ${level.bulge_mm > 0 ? 'higher' : 'lower'} than the edge.` : ''}</h3>
              <svg viewBox="0 0 320 84" width="100%" role="img" aria-label="Height of each floor marker">
                <line x1={0} x2={320} y1={40} y2={40} stroke={theme.hairline} />
                {heights.map((h, i) => {
                  const x = ((i + 0.5) / heights.length) * 320;
                  const y = 40 - (28 * h) / tallest;
                  return (
                    <g key={i}>
                      <line x1={x} x2={x} y1={40} y2={y} stroke={theme.selection} strokeWidth={2} />
                      <circle cx={x} cy={y} r={3.5} fill={theme.selection} />
                      <text x={x} y={80} fontSize={10.5} textAnchor="middle" fill={theme.quiet} fontFamily={theme.mono}>{(Math.round(10 * h) / 10 || 0).toFixed(1)}</text>
                    </g>
                  );
                })}
              </svg>
            </>
          )}
        </>
      )}
      {calibration && (
        <>
          <h3>Adjust version {calibration.row.version}</h3>
          <Row>
            <PlainButton isDisabled={!canWork} onPress={() => deeds.adjust.mutate({ id: calibration.row.id, quarter_turns: 1 })}>Turn 90° left</PlainButton>
            <PlainButton isDisabled={!canWork} onPress={() => deeds.adjust.mutate({ id: calibration.row.id, quarter_turns: -1 })}>Turn 90° right</PlainButton>
          </Row>
          <Row>
            <label>raise by <input type="number" min={-500} max={500} step={0.5} value={raise} onChange={(e) => setRaise(Number(e.target.value))} /> mm</label>
            <PlainButton isDisabled={!canWork || raise === 0} onPress={() => deeds.adjust.mutate({ id: calibration.row.id, raise_mm: raise })}>Raise</PlainButton>
          </Row>
          <p><Quiet>Each makes a new version; the one before stays.</Quiet></p>
        </>
      )}
    </Panel>
  );
}

const LIMIT_PX = 0.5;

type TrustProps = Props & { take: number | null; onTake: (take: number) => void };

/** Trust: every take measures the calibration again; a camera that was knocked is placed anew. */
export function TrustStep({ room, deeds, canWork, selected, onSelect, take, onTake, live }: TrustProps) {
  const theme = useTheme();
  const trust = useTrust(take);
  const [against, setAgainst] = useState<[number, number] | null>(null);
  const versions = room.calibrations;
  const pair = against ?? (versions.length > 1 ? [versions[1].id, versions[0].id] : null);
  const moved = useQuery({
    queryKey: ['stage-compare', pair],
    queryFn: () => get<Schemas['CompareOut']>(`/stage-calibrations/${pair![0]}/compare/${pair![1]}`),
    enabled: pair !== null,
    staleTime: Infinity,
  }).data;
  const row = room.takes.find((t) => t.take_id === take);
  const older = room.takes.filter((t) => t.older && !t.busy);
  // a knock counts for every take from the first one that shows it on
  const first = row?.knocked[0];
  const since = first ? room.takes.filter((t) => t.take_id >= row!.take_id && t.older) : [];
  const knockedLive = live?.knocked ?? [];
  const most = Math.max(1, ...(trust?.shift_px.flat().filter((v): v is number => v !== null) ?? []));
  return (
    <Panel aria-label="Trust">
      <h2>Trust</h2>
      <p><Quiet>Every take measures the calibration again: how far each camera’s picture lies from the points the others rebuild. Up to {LIMIT_PX} px is good.</Quiet></p>
      {knockedLive.map((k) => <p key={k.camera} role="alert" style={{ borderLeft: `3px solid ${theme.wrong}`, paddingLeft: 10 }}>✕ {k.camera} has been knocked: its picture is off by {k.shift_px.toFixed(1)} px.</p>)}
      <h3>Takes</h3>
      {room.takes.length === 0 && <p><Quiet>No take has been recorded by these cameras yet.</Quiet></p>}
      <div style={{ maxHeight: 190, overflow: 'auto' }}>
        <Table>
          <thead><tr><th>take</th><th>version</th><th style={{ textAlign: 'left' }}>cameras</th></tr></thead>
          <tbody>
            {room.takes.map((t) => {
              const { knocked } = t;
              return (
                <tr key={t.take_id} aria-selected={t.take_id === take}>
                  <td><button onClick={() => onTake(t.take_id)}>{t.slate} take {t.number}</button></td>
                  <td>{t.calibration_version ?? '–'}{t.older ? ' older' : ''}</td>
                  <td style={{ textAlign: 'left' }}>{t.busy ? 'at work' : knocked.length ? knocked.map((k) => `✕ ${k.camera} ${k.shift_px.toFixed(1)} px`).join(', ') : '✓ all true'}</td>
                </tr>
              );
            })}
          </tbody>
        </Table>
      </div>
      {row && trust && trust.start_s.length > 0 && (
        <>
          <h3>{row.slate} take {row.number}: shift of each camera’s picture over time, px</h3>
          <svg viewBox="0 0 340 110" width="100%" role="img" aria-label="Shift of each camera's picture over the take">
            <line x1={0} x2={340} y1={100 - (92 * LIMIT_PX) / most} y2={100 - (92 * LIMIT_PX) / most} stroke={theme.quiet} strokeDasharray="4 3" />
            <text x={338} y={96 - (92 * LIMIT_PX) / most} fontSize={10} textAnchor="end" fill={theme.quiet}>{LIMIT_PX} px</text>
            <line x1={0} x2={340} y1={100} y2={100} stroke={theme.hairline} />
            {trust.cameras.map((id, c) => {
              const mine = id === selected;
              const off = trust.shift_px[c].some((v) => v !== null && v > LIMIT_PX);
              const end = trust.start_s[trust.start_s.length - 1] || 1;
              const last = trust.shift_px[c].filter((v) => v !== null).at(-1) ?? most;
              const path = trust.shift_px[c].map((v, w) => (v === null ? null : `${((340 * trust.start_s[w]) / end).toFixed(1)},${(100 - (92 * v) / most).toFixed(1)}`));
              return (
                <g key={id}>
                  <polyline points={path.filter((p) => p !== null).join(' ')} fill="none" stroke={mine ? theme.selection : off ? theme.wrong : theme.quiet} strokeWidth={mine || off ? 2 : 1} opacity={mine || off ? 1 : 0.6} />
                  {off && <text x={336} y={113 - (92 * last) / most} fontSize={11} textAnchor="end" fill={theme.wrong}>{id}</text>}
                </g>
              );
            })}
          </svg>
        </>
      )}
      {row?.busy && <p role="status">Being rebuilt with version {row.calibration_version}, and solved again.</p>}
      {first && !row?.busy && (
        <div style={{ borderLeft: `3px solid ${theme.wrong}`, paddingLeft: 10, margin: '10px 0' }}>
          <p><strong>{first.camera}</strong> has stood elsewhere since {first.since_s.toFixed(1)} s: off by {first.shift_px.toFixed(1)} px. <WordButton onPress={() => onSelect(first.camera)}>show it</WordButton></p>
          <Row>
            <MainButton isDisabled={!canWork || row?.older} onPress={() => deeds.step.mutate({ name: 'place again', parameters: { take: row!.take_id, camera: first.camera } })}>
              Place {first.camera} anew from {since.length > 0 || row?.older ? 'this take' : 'this take and those since'}
            </MainButton>
          </Row>
          {since.length > 0 && (
            <Row>
              <MainButton isDisabled={!canWork || deeds.rebuild.isPending} onPress={() => deeds.rebuild.mutate(since.map((t) => t.take_id))}>
                Rebuild {since.length === 1 ? 'this take' : `the ${since.length} takes since`} with version {versions[0].version}
              </MainButton>
            </Row>
          )}
        </div>
      )}
      <StepState run={room.runs.find((r) => r.name === 'place again')} onCancel={(id) => deeds.cancel.mutate(id)} />
      <Trouble error={deeds.step.error ?? deeds.rebuild.error ?? deeds.knock.error} />
      {!first && older.length > 0 && versions[0].how !== 'placed anew' && (
        <Row>
          <WordButton isDisabled={!canWork} onPress={() => deeds.rebuild.mutate(older.map((t) => t.take_id))}>rebuild {older.length} takes of older versions with version {versions[0].version}</WordButton>
        </Row>
      )}
      {pair && (
        <>
          <h3>What moved between two versions</h3>
          <Row>
            {[0, 1].map((i) => (
              <Choice key={i} hidden label={i === 0 ? 'From version' : 'To version'} style={{ flex: '1 1 0' }} value={pair[i]}
                options={versions.map((v) => ({ id: v.id, words: `${v.version} ${v.how}` }))}
                onChange={(id) => setAgainst(i === 0 ? [id, pair[1]] : [pair[0], id])} />
            ))}
          </Row>
          {moved && (moved.world_moved_mm > 0.1 || moved.world_turned_deg > 0.01) && (
            <p><Quiet>The world as a whole turned by {moved.world_turned_deg.toFixed(2)}° and moved {(moved.world_moved_mm / 1000).toFixed(3)} m; that is taken out here.</Quiet></p>
          )}
          <div style={{ maxHeight: 220, overflow: 'auto' }}>
            <Table>
              <thead><tr><th>camera</th><th>moved</th><th>turned</th><th>focal</th></tr></thead>
              <tbody>
                {moved?.rows.map((m) => (
                  <tr key={m.id} aria-selected={m.id === selected}>
                    <td><button onClick={() => onSelect(m.id)}>{m.id}</button></td>
                    <td>{m.moved_mm.toFixed(m.moved_mm < 10 ? 2 : 0)} mm</td>
                    <td>{m.turned_deg.toFixed(m.turned_deg < 10 ? 3 : 1)}°</td>
                    <td>{Math.abs(m.focal_px) < 0.005 ? '' : m.focal_px > 0 ? '+' : '−'}{Math.abs(m.focal_px).toFixed(2)} px</td>
                  </tr>
                ))}
              </tbody>
            </Table>
          </div>
        </>
      )}
      {room.simulated && <h3>Simulated room</h3>}
      {room.simulated && <Row>
        <Quiet>Let somebody run into</Quiet>
        <PlainButton isDisabled={!canWork || !selected} onPress={() => selected && deeds.knock.mutate(selected)}>{selected ?? 'a camera (pick one)'}</PlainButton>
        {deeds.knock.data && <Quiet role="status">{deeds.knock.data.words}</Quiet>}
      </Row>}
    </Panel>
  );
}
