import { useMemo, useState } from 'react';
import styled, { useTheme } from 'styled-components';
import { rateOf } from '../api/tracks';
import { Empty, Figure, Quiet, WordButton, fieldLook } from '../parts/controls';
import { Choice, Slide } from '../parts/choices';
import { atWork } from '../parts/verdict';
import { EditBlinds, Picture, type PictureContent } from './camera-picture';
import { project, rayAcross, type Camera } from '../optics/lens';
import { Plan } from './plan';
import { RoomView } from './room-view';
import type { Live } from '../queries/live';
import { usePlan, useTakeFrame, type RoomOut, type useCalibration, type useRoom } from '../queries/room';

export type Step = 'blinds' | 'sweep' | 'cameras' | 'level' | 'trust';

const Middle = styled.div`
  display: flex;
  flex-direction: column;
  min-width: 0;
  min-height: 0;
  select {
    ${fieldLook}
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

const SAME_PX = 2.5; // a centroid this near to where a point appears is that point's
const NOBODY = -1;
const VIEWS = [['room', 'Room'], ['plan', 'Plan'], ['pictures', 'Pictures']] as const;

/** Where in its picture a solved camera saw the wand, as the live sweep shows it. */
function coverageOf(counts: number[][] | undefined): PictureContent['sweep'] {
  return counts && { cells: counts, looks: counts.map((row) => row.map(() => 0)) };
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
export function Views({ room, live, trouble, updates, cameras, camera, view, take, moved, step, set, canWork, deeds, version, calibration }: ViewsProps) {
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
  const solving = room.runs.find((r) => r.name === 'solve cameras' && atWork(r));
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
  const trail = useMemo(() => (step === 'cameras' ? (calibration?.figures.trail_m ?? []) : []), [step, calibration]);
  const rowOf = (id: string) => calibration?.rows.find((r) => r.id === id);
  const blinds = room.blinds;
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
        <Quiet>of</Quiet>
        <Choice hidden label="What is shown" value={take ?? 0} onChange={(id) => set({ take: id ? String(id) : null })}
          options={[{ id: 0, words: 'now, live' }, ...room.takes.map((t) => ({ id: t.take_id, words: `${t.slate} take ${t.number}` }))]} />
        {take !== null && shown.frames > 0 && (
          <>
            <Slide label="Frame of the take" min={0} max={shown.frames - 1} step={1} value={frame} onChange={setFrame} style={{ width: 160 }} />
            <Figure>{(frame / rate).toFixed(2)} s</Figure>
          </>
        )}
        {take === null && <Quiet title="Updates of this page a second">{trouble ? <span role="alert" style={{ color: theme.text }}>▲ {trouble}</span> : live ? `${updates.toFixed(0)} updates/s` : 'waiting for the cameras…'}</Quiet>}
        <span style={{ marginLeft: 'auto', display: 'flex', gap: 14, alignItems: 'center' }}>
          {view === 'plan' && !sweeping && (
            <>
              <WordButton $on={show === 'cameras'} aria-pressed={show === 'cameras'} onPress={() => setShow('cameras')}>cameras</WordButton>
              <WordButton $on={show === 'accuracy'} aria-pressed={show === 'accuracy'} onPress={() => setShow('accuracy')}>mm</WordButton>
              <Slide label="Height" min={0} max={2.4} step={0.2} value={height} onChange={setHeight} style={{ width: 90, minWidth: 0 }} />
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
            {solving ? (
              <>
                <h2>The cameras are being solved</h2>
                <p>{Math.round(100 * solving.progress)} %. The room appears here in a moment.</p>
              </>
            ) : (
              <>
                <h2>Nobody knows yet where the cameras hang</h2>
                <p>Mask what shines, sweep the wand, and solve: then the room appears here.</p>
              </>
            )}
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
              <div style={{ margin: '6px 0' }}>
                <Quiet>marker</Quiet>{' '}
                <Choice hidden label="Marker" value={picked ?? NOBODY} onChange={(i) => setPicked(i === NOBODY ? null : i)} style={{ display: 'inline-grid' }}
                  options={[{ id: NOBODY, words: 'none' }, ...points.map((_, i) => ({ id: i, words: nameOf(i) }))]} />
                {spot && <span role="status"> seen by {seers.length ? `${seers.length}: ${seers.map((c) => `${c} ${offsetIn(c, spot)}`).join(', ')} px off` : 'no camera'}</span>}
              </div>
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
