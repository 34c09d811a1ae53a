import { useMemo } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import styled from 'styled-components';
import type { Me } from '../api/client';
import { Quiet, Trouble } from '../parts/controls';
import { Frame } from '../parts/frame';
import { atWork } from '../parts/verdict';
import { BlindsStep, SweepStep } from '../stage/prepare';
import { CamerasStep, LevelStep, TrustStep } from '../stage/solved';
import { useLive, type Live } from '../queries/live';
import { useCalibration, useRoom, type RoomOut } from '../queries/room';
import { Views, type Step } from '../stage/views';
import { night } from '../theme';
import { useBoard } from '../queries/production';

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

const STEPS = [
  ['blinds', 'Blinds'],
  ['sweep', 'Sweep'],
  ['cameras', 'Cameras'],
  ['level', 'Origin and level'],
  ['trust', 'Trust'],
] as const;

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
  return room.takes.length === 0 ? 'no take yet' : moved ? `✕ ${moved} of ${room.takes.length} takes off` : `✓ ${room.takes.length} take${room.takes.length === 1 ? '' : 's'} true`;
}

/** Where a step leads when it is done, and what came of it. */
function next(step: Step, room: RoomOut, live: Live | null): { words: string; path: string; name: string } | null {
  const newest = room.calibrations[0];
  if (live?.recording || room.runs.some(atWork)) return null;
  if (step === 'blinds' && room.recordings.some((r) => r.kind === 'still')) return { words: room.blinds.length ? 'What shines is masked.' : 'Nothing shines where no marker is.', path: 'stage/sweep', name: 'sweep the wand' };
  if (!newest) return null;
  const solved = `${newest.cameras} of ${room.cameras.length} cameras are solved${newest.reprojection_rms_px ? ` to ${newest.reprojection_rms_px.toFixed(3)} px` : ''}.`;
  if (step === 'sweep' && room.recordings.some((r) => r.kind === 'sweep')) return { words: solved, path: 'stage/cameras', name: 'look at each of them' };
  if (step === 'cameras') return newest.world === 'levelled' ? null : { words: 'The room has no floor yet.', path: 'stage/level', name: 'origin and level' };
  if (step === 'level' && newest.world === 'levelled') return { words: 'The room is ready.', path: 'floor', name: 'roll on the Floor' };
  return null;
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
  const day = board.data?.day;
  const p = board.data?.production;
  const keep = search.toString();
  const knocked = room?.takes.find((t) => t.take_id === take)?.knocked;
  const moved = useMemo(() => [...(knocked ?? []).map((k) => k.camera), ...(live?.knocked ?? []).map((k) => k.camera)], [knocked, live?.knocked]);
  const onward = room && canWork ? next(step, room, live) : null;
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
            {onward && <p style={{ padding: '0 18px 18px', margin: 0 }}>{onward.words} Next: <Link to={`/p/${production}/${onward.path}`}>{onward.name}</Link></p>}
          </div>
        </Wrap>
      )}
    </Frame>
  );
}
