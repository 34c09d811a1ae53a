import { useMemo, useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import styled, { useTheme } from 'styled-components';
import type { Me } from '../api/client';
import { rateOf } from '../api/tracks';
import { Empty, Figure, Quiet, Trouble, WordButton } from '../parts/controls';
import { Frame } from '../parts/frame';
import { EditBlinds, Picture, type PictureContent, type Residual } from '../stage/camera-picture';
import { project, rayAcross, type Blind, type Camera } from '../stage/lens';
import { Plan } from '../stage/plan';
import { BlindsStep, SweepStep } from '../stage/prepare';
import { RoomView } from '../stage/room-view';
import { CamerasStep, LevelStep, TrustStep } from '../stage/solved';
import { useLive, type Live } from '../stage/use-live';
import { useCalibration, usePlan, useRoom, useTakeFrame, type RoomOut } from '../stage/use-room';
import { night } from '../theme';
import { useBoard } from './shoot';

const Wrap = styled.div`
  display: grid;
  grid-template-columns: 196px minmax(0, 1fr) 392px;
  height: 100%;
  min-height: 0;
`;

const Rail = styled.nav`
  border-right: 1px solid ${(p) => p.theme.hairline};
  padding: 12px 0;
  overflow: auto;
  a,
  button {
    display: block;
    width: 100%;
    font: inherit;
    text-align: left;
    color: inherit;
    background: none;
    border: 0;
    border-left: 3px solid transparent;
    padding: 7px 12px 8px 13px;
    text-decoration: none;
    cursor: pointer;
    small {
      display: block;
      color: ${(p) => p.theme.quiet};
      font-size: 12px;
    }
  }
  [aria-current],
  [aria-pressed='true'] {
    background: ${(p) => p.theme.picked};
    border-left-color: ${(p) => p.theme.selection};
  }
  h3 {
    margin: 18px 16px 4px;
    font-size: 12px;
    font-weight: normal;
    color: ${(p) => p.theme.quiet};
  }
`;

const Middle = styled.div`
  display: flex;
  flex-direction: column;
  min-width: 0;
  min-height: 0;
  select {
    font: inherit;
    color: ${(p) => p.theme.text};
    background: ${(p) => p.theme.ground};
    border: 1px solid ${(p) => p.theme.quiet};
    border-radius: 3px;
    padding: 2px 4px;
  }
`;

const Bar = styled.div`
  display: flex;
  gap: 14px;
  align-items: center;
  padding: 6px 16px;
  overflow: hidden;
  min-height: 40px;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  flex: none;
  white-space: nowrap;
  input[type='range'] {
    accent-color: ${(p) => p.theme.selection};
    width: 130px;
  }
`;

const Wall = styled.div`
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(max(150px, calc(100% / 6 - 12px)), 1fr)); /* six in a row, fewer where it is narrow */
  gap: 10px;
  padding: 12px 16px;
  overflow: auto;
  button {
    font: inherit;
    color: inherit;
    background: none;
    border: 1px solid ${(p) => p.theme.hairline};
    padding: 0;
    text-align: left;
    cursor: pointer;
  }
  button[data-behind='true'] {
    border-style: dashed;
    border-color: ${(p) => p.theme.wrong};
  }
  button:focus-visible {
    outline: 2px solid ${(p) => p.theme.selection};
  }
  span {
    display: flex;
    justify-content: space-between;
    gap: 6px;
    padding: 2px 6px;
    font-size: 12px;
    white-space: nowrap;
  }
`;

const STEPS = [
  ['blinds', 'Blinds'],
  ['sweep', 'Sweep'],
  ['cameras', 'Cameras'],
  ['level', 'Origin and level'],
  ['trust', 'Trust'],
] as const;
type Step = (typeof STEPS)[number][0];
const SAME_PX = 2.5; // a centroid this near to where a point appears is that point's
const VIEWS = [['room', 'Room'], ['plan', 'Plan'], ['pictures', 'Pictures']] as const;

/** What a calibration says of one camera. */
type CameraRow = { id: string; covered: number; coverage?: number[][]; residual_pattern_px?: Residual };

/** Where in its picture a solved camera saw the wand, as the live sweep shows it. */
function coverageOf(counts: number[][] | undefined): PictureContent['sweep'] {
  return counts && { cells: counts, looks: counts.map((row) => row.map(() => 0)) };
}

/** What each step has come to, in a few words. */
function come(step: Step, room: RoomOut): string {
  const newest = room.calibrations[0];
  if (step === 'blinds') return room.blinds.length ? `${room.blinds.length} on ${new Set(room.blinds.map((b) => b.camera)).size} cameras` : 'none yet';
  if (step === 'sweep') {
    const last = room.recordings.find((r) => r.kind === 'sweep');
    return last ? `${last.seconds.toFixed(0)} s, ${last.wand}` : 'not swept yet';
  }
  if (step === 'cameras') return newest ? `${newest.cameras} of ${room.cameras.length}, ${newest.reprojection_rms_px?.toFixed(3) ?? '–'} px` : 'not solved yet';
  if (step === 'level') return newest ? (newest.world === 'levelled' ? `levelled, version ${newest.version}` : 'not levelled yet') : 'not solved yet';
  const moved = room.takes.filter((t) => t.knocked.length > 0).length;
  return room.takes.length === 0 ? 'no take yet' : moved ? `✕ ${moved} of ${room.takes.length} takes off` : `✓ ${room.takes.length} takes true`;
}

export function Stage({ me }: { me: Me }) {
  const { production: id, step: stepParam } = useParams();
  const production = Number(id);
  const [search, setSearch] = useSearchParams();
  const navigate = useNavigate();
  const board = useBoard(production);
  const deeds = useRoom(production);
  const { live, trouble, updates } = useLive(production);
  const step: Step = (STEPS.find(([s]) => s === stepParam)?.[0] ?? 'blinds') as Step;
  const room = deeds.room.data;
  const role = me.memberships.find((m) => m.production_id === production)?.role;
  const canWork = role === 'technician' || role === 'supervisor';
  const version = Number(search.get('version')) || room?.calibrations[0]?.id;
  const { calibration, cameras } = useCalibration(version);
  const view = search.get('view') ?? (step === 'blinds' || step === 'cameras' ? 'pictures' : step === 'sweep' ? 'plan' : 'room');
  const camera = search.get('camera');
  const take = Number(search.get('take')) || null;
  const set = (values: Record<string, string | null>) =>
    setSearch(
      (before) => {
        const next = new URLSearchParams(before);
        Object.entries(values).forEach(([k, v]) => (v === null ? next.delete(k) : next.set(k, v)));
        return next;
      },
      { replace: true },
    );
  const day = board.data?.days.at(-1);
  const p = board.data?.production;
  const keep = search.toString();
  const knocked = room?.takes.find((t) => t.take_id === take)?.knocked as { camera: string }[] | undefined;
  const moved = useMemo(() => [...(knocked ?? []).map((k) => k.camera), ...(live?.knocked ?? []).map((k) => k.camera)], [knocked, live?.knocked]);
  const shared = room && { room, deeds, live, canWork, cameras, calibration, selected: camera, onSelect: (c: string) => set({ camera: c }) };
  return (
    <Frame theme={night} me={me} productionId={production}
      cells={[
        { what: p?.name ?? 'production', value: day ? `Day ${day.number}, ${day.stage}` : '…' },
        { what: 'calibration', value: calibration ? `version ${calibration.row.version}${calibration.row.world === 'levelled' ? '' : ', not levelled'}` : room?.calibrations.length === 0 ? 'none yet' : '…' },
        { what: 'cameras', value: live ? `${live.cameras.filter((c) => c.fps > 0).length} of ${live.cameras.length} live` : '…' },
        { what: live?.recording ? `● recording, ${live.kind}` : 'rate', value: live ? `${live.rate.toFixed(0)} Hz` : '…' },
      ]}>
      {deeds.room.isError && <Trouble error={deeds.room.error} />}
      {!room && !deeds.room.isError && <p style={{ padding: 24 }}>Loading the room…</p>}
      {room && shared && (
        <Wrap>
          <Rail aria-label="Preparing the room">
            {STEPS.map(([path, name], i) => (
              <Link key={path} to={`/p/${production}/stage/${path}${camera ? `?camera=${camera}` : ''}`} aria-current={path === step ? 'step' : undefined}>
                {i + 1} {name}
                <small>{come(path, room)}</small>
              </Link>
            ))}
            <h3>Versions</h3>
            {room.calibrations.length === 0 && <h3 style={{ marginTop: 0 }}>none yet</h3>}
            {room.calibrations.map((c) => (
              <button key={c.id} aria-pressed={c.id === version} onClick={() => set({ version: String(c.id) })}
                title={`${c.words}; by ${c.made_by || '–'}, ${new Date(c.made_at).toLocaleString([], { hour12: false })}`}>
                {c.version} {c.how}
                <small>{new Date(c.made_at).toLocaleString([], { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit', hour12: false })} · {c.made_by || '–'}{c.takes ? ` · ${c.takes} take${c.takes === 1 ? '' : 's'}` : ''}</small>
              </button>
            ))}
          </Rail>
          <Views key={`${take}`} {...{ room, live, trouble, updates, cameras, camera, view, take, moved, step, set, canWork, deeds, version, calibration }} />
          <div style={{ borderLeft: `1px solid ${night.hairline}`, minHeight: 0, overflow: 'auto' }}>
            {!canWork && <p style={{ padding: '10px 18px 0', margin: 0 }}><Quiet>As {role} you can look; a technician or a supervisor works on the room.</Quiet></p>}
            {step === 'blinds' && <BlindsStep {...shared} />}
            {step === 'sweep' && <SweepStep {...shared} />}
            {step === 'cameras' && <CamerasStep {...shared} />}
            {step === 'level' && <LevelStep {...shared} />}
            {step === 'trust' && (
              <TrustStep {...shared} take={take} onTake={(t) => void navigate(`/p/${production}/stage/trust?${new URLSearchParams({ ...Object.fromEntries(new URLSearchParams(keep)), take: String(t) })}`, { replace: true })} />
            )}
          </div>
        </Wrap>
      )}
    </Frame>
  );
}

type ViewsProps = {
  room: RoomOut;
  live: Live | null;
  trouble: string | null;
  updates: number;
  cameras: Camera[];
  camera: string | null;
  view: string;
  take: number | null;
  moved: string[];
  step: Step;
  set: (values: Record<string, string | null>) => void;
  canWork: boolean;
  deeds: ReturnType<typeof useRoom>;
  version: number | undefined;
  calibration: ReturnType<typeof useCalibration>['calibration'];
};

/** The large picture in the middle: the room, its plan, or what the cameras see; live, or of a take. */
function Views({ room, live, trouble, updates, cameras, camera, view, take, moved, step, set, canWork, deeds, version, calibration }: ViewsProps) {
  const theme = useTheme();
  const [height, setHeight] = useState(1);
  const [show, setShow] = useState<'cameras' | 'accuracy'>('cameras');
  const [frame, setFrame] = useState(240);
  const [picked, setPicked] = useState<number | null>(null);
  const [look, setLook] = useState(false);
  const shown = useTakeFrame(take, frame);
  const plan = usePlan(version, height);
  const sweeping = live?.recording && live.kind === 'sweep' ? live.sweep : null;
  const points = take ? shown.points : (live?.points ?? []);
  const names = room.cameras.map((c) => String(c.id));
  const seen = (id: string): number[][] => (take ? (shown.byCamera.get(id) ?? []) : (live?.cameras.find((c) => c.id === id)?.points ?? []));
  const spot = picked === null ? undefined : points[picked];
  const seers = useMemo(() => {
    if (!spot) return [];
    return cameras
      .filter((c) => {
        const at = project(c, spot[0], spot[1], spot[2]);
        return at && seen(c.id).some((q) => Math.hypot(q[0] - at[0], q[1] - at[1]) < SAME_PX);
      })
      .map((c) => c.id);
  }, [spot, cameras, shown, live, take]);
  const trail = useMemo(() => (step === 'cameras' ? (((calibration?.figures ?? {}) as { trail_m?: number[][] }).trail_m ?? []) : []), [step, calibration]);
  const rowOf = (id: string) => ((calibration?.rows ?? []) as CameraRow[]).find((r) => r.id === id);
  const blinds = room.blinds as Blind[];
  const nearby = (id: string, at: [number, number], within: number) => seen(id).find((q) => Math.hypot(q[0] - at[0], q[1] - at[1]) < within);
  const raysInto = (into: Camera, p: number[]) =>
    cameras.flatMap((c) => {
      const at = c.id === into.id || !seers.includes(c.id) ? null : project(c, p[0], p[1], p[2]);
      const q = at && nearby(c.id, at, SAME_PX);
      const path = q ? rayAcross(c, q[0], q[1], into) : [];
      return path.length ? [{ camera: c.id, path }] : [];
    });
  const nameOf = (i: number) => (take ? shown.names[i] : `point ${i + 1}`);
  const offsetIn = (id: string, p: number[]) => {
    const at = project(cameras.find((c) => c.id === id)!, p[0], p[1], p[2])!;
    const q = nearby(id, at, SAME_PX);
    return q ? Math.hypot(q[0] - at[0], q[1] - at[1]).toFixed(2) : '–';
  };
  const pickIn = (id: string, u: number, v: number) => {
    const solved = cameras.find((c) => c.id === id);
    if (!solved) return;
    let [best, found]: [number, number | null] = [40, null];
    points.forEach((p, i) => {
      const at = project(solved, p[0], p[1], p[2]);
      const d = at ? Math.hypot(at[0] - u, at[1] - v) : best;
      if (d < best) [best, found] = [d, i];
    });
    setPicked(found);
  };
  const content = (id: string, large: boolean): PictureContent => {
    const rig = room.cameras.find((c) => c.id === id)!;
    const solved = cameras.find((c) => c.id === id);
    const projected = large && solved && step !== 'cameras' ? points.flatMap((q) => { const at = project(solved, q[0], q[1], q[2]); return at ? [at] : []; }) : undefined;
    const which = spot && solved ? project(solved, spot[0], spot[1], spot[2]) : null;
    const rays = spot && solved && projected ? raysInto(solved, spot) : undefined;
    return {
      width: Number(rig.width), height: Number(rig.height), points: step === 'cameras' ? [] : seen(id), blinds: blinds.filter((b) => b.camera === id),
      sweep: sweeping?.cameras.find((c) => c.id === id) ?? (step === 'cameras' ? coverageOf(rowOf(id)?.coverage) : undefined), residual: step === 'cameras' ? rowOf(id)?.residual_pattern_px : null,
      projected, rays, picked: which && projected ? projected.findIndex((q) => q[0] === which[0] && q[1] === which[1]) : null,
    };
  };
  const one = view === 'pictures' && camera && names.includes(camera) ? camera : null;
  const rate = take ? rateOf(shown.rate) : 0;
  return (
    <Middle>
      <Bar>
        {VIEWS.map(([v, name]) => <WordButton key={v} $on={v === view} aria-pressed={v === view} onPress={() => set({ view: v })}>{name}</WordButton>)}
        <span style={{ borderLeft: `1px solid ${theme.hairline}`, height: 20 }} />
        <label>
          <Quiet>of</Quiet>{' '}
          <select aria-label="What is shown" value={take ?? ''} onChange={(e) => set({ take: e.target.value || null })}>
            <option value="">now, live</option>
            {room.takes.map((t) => <option key={t.take_id} value={t.take_id}>{t.slate} take {t.number}</option>)}
          </select>
        </label>
        {take !== null && shown.frames > 0 && (
          <>
            <input type="range" aria-label="Frame of the take" min={0} max={shown.frames - 1} value={frame} onChange={(e) => setFrame(Number(e.target.value))} />
            <Figure>{(frame / rate).toFixed(2)} s</Figure>
          </>
        )}
        {take === null && <Quiet title="Updates of this page a second">{trouble ? <span role="alert" style={{ color: theme.text }}>▲ {trouble}</span> : live ? `${updates.toFixed(0)} updates/s` : 'waiting for the cameras…'}</Quiet>}
        <span style={{ marginLeft: 'auto', display: 'flex', gap: 14, alignItems: 'center' }}>
          {view === 'plan' && !sweeping && (
            <>
              <WordButton $on={show === 'cameras'} aria-pressed={show === 'cameras'} onPress={() => setShow('cameras')}>cameras</WordButton>
              <WordButton $on={show === 'accuracy'} aria-pressed={show === 'accuracy'} onPress={() => setShow('accuracy')}>mm</WordButton>
              <input type="range" aria-label="Height" min={0} max={2.4} step={0.2} value={height} onChange={(e) => setHeight(Number(e.target.value))} style={{ width: 70 }} />
              <Figure>{height.toFixed(1)} m</Figure>
            </>
          )}
          {view === 'room' && camera && <WordButton $on={look} aria-pressed={look} onPress={() => setLook(!look)}>{look ? `leave ${camera}` : `look through ${camera}`}</WordButton>}
          {one && <WordButton onPress={() => set({ camera: null })}>all cameras</WordButton>}
        </span>
      </Bar>
      <div style={{ flex: 1, minHeight: 0, position: 'relative', overflow: view === 'pictures' ? 'auto' : 'hidden' }}>
        {view !== 'pictures' && !version && !sweeping && (
          <Empty style={{ margin: 24 }}>
            <h2>Nobody knows yet where the cameras hang</h2>
            <p>Mask what shines, sweep the wand, and solve: then the room appears here.</p>
          </Empty>
        )}
        {view === 'room' && version !== undefined && (
          <RoomView cameras={cameras} selected={camera} moved={moved} points={points} trail={trail} picked={picked} seers={seers} look={look ? camera : null} onPick={setPicked} />
        )}
        {view === 'plan' && (version !== undefined || sweeping) && (
          <Plan plan={plan} show={show} cameras={cameras} selected={camera} onSelect={(c) => set({ camera: c })} sweep={sweeping} names={names} points={points} />
        )}
        {view === 'pictures' && !one && (
          <Wall>
            {names.map((id) => {
              const c = live?.cameras.find((k) => k.id === id);
              const mine = sweeping?.cameras.find((k) => k.id === id);
              return (
                <button key={id} onClick={() => set({ camera: id })} data-behind={Boolean(mine?.lacks)} aria-label={`Camera ${id}`}>
                  <Picture content={content(id, false)} label={`Picture of camera ${id}`} />
                  <span>
                    <strong>{moved.includes(id) ? '✕ ' : ''}{id}</strong>
                    <Quiet>{step === 'cameras' ? (rowOf(id) ? `${(100 * rowOf(id)!.covered).toFixed(0)} % covered` : 'not solved') : mine ? `${Math.floor(100 * mine.share)} %` : take ? `${seen(id).length} points` : c && c.fps > 0 ? `${c.fps.toFixed(0)} Hz${c.lost ? `, ${c.lost} lost` : ''}` : 'not live'}</Quiet>
                  </span>
                </button>
              );
            })}
          </Wall>
        )}
        {one && (
          <div style={{ padding: '12px 16px', maxWidth: 1000 }}>
            {step === 'blinds' ? (
              <EditBlinds content={content(one, true)} camera={one} blinds={blinds} disabled={!canWork} onChange={(rows, words) => deeds.blinds.mutate({ rows, words })} />
            ) : (
              <Picture content={content(one, true)} large label={`Picture of camera ${one}`} onPick={step === 'cameras' ? undefined : (u, v) => pickIn(one, u, v)} />
            )}
            <p style={{ margin: '6px 0' }}>
              <strong>{one}</strong> <Quiet>{step === 'cameras' ? 'numbers: sightings of the wand in each cell · arrows: their mean residual, a tenth of a pixel is drawn 120 px long' : `${seen(one).length} centroid${seen(one).length === 1 ? '' : 's'}`}{step === 'cameras' ? '' : points.length ? ' · squares: rebuilt points, their offset drawn twelvefold; click one, and the rays of the others appear' : ''}</Quiet>
            </p>
            {step !== 'cameras' && step !== 'blinds' && points.length > 0 && (
              <p style={{ margin: '6px 0' }}>
                <label>
                  <Quiet>marker</Quiet>{' '}
                  <select aria-label="Marker" value={picked ?? ''} onChange={(e) => setPicked(e.target.value === '' ? null : Number(e.target.value))}>
                    <option value="">none</option>
                    {points.map((_, i) => <option key={i} value={i}>{nameOf(i)}</option>)}
                  </select>
                </label>
                {spot && <span role="status"> seen by {seers.length ? `${seers.length}: ${seers.map((c) => `${c} ${offsetIn(c, spot)}`).join(', ')} px off` : 'no camera'}</span>}
              </p>
            )}
          </div>
        )}
        {view === 'room' && spot && (
          <div style={{ position: 'absolute', left: 16, bottom: 12, background: theme.raised, padding: '6px 12px', maxWidth: '80%' }} role="status">
            <strong>{nameOf(picked!)}</strong>{' '}
            <Figure>{spot.map((v) => v.toFixed(3)).join(', ')} m</Figure> · seen by {seers.length ? `${seers.length}: ${seers.join(', ')}` : 'no camera'}
          </div>
        )}
      </div>
    </Middle>
  );
}
