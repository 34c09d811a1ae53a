import { useState } from 'react';
import { Dialog, DialogTrigger, Popover } from 'react-aria-components';
import styled from 'styled-components';
import { figure, type RunOut } from '../api/client';
import { Figure, MainButton, Progress, Quiet, WordButton } from '../parts/controls';
import { atWork } from '../parts/verdict';

const Strip = styled.div`
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(0, 1fr));
  grid-auto-flow: column;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  flex: none;
`;

const Pass = styled.section`
  padding: 6px 14px 5px;
  border-right: 1px solid ${(p) => p.theme.hairline};
  min-height: 56px;
  position: relative;
  min-width: 0;
  > h2 {
    margin: 0;
    font-size: 13px;
    font-weight: normal;
    color: ${(p) => p.theme.quiet};
    display: flex;
    justify-content: space-between;
  }
  > div:first-of-type {
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  > [role='progressbar'] {
    position: absolute;
    inset: auto 0 0 0;
  }
`;

const Big = styled(Figure)`
  font-size: 18px;
  margin-right: 8px;
`;

export type Limits = { min_cameras: number; residual_limit_px: number };

type Props = {
  runs: RunOut[];
  mends: number;
  snags: number;
  onRun: (name: string, limits?: Limits) => void;
  onCancel: (run: RunOut) => void;
};

const Sheet = styled(Dialog)`
  background: ${(p) => p.theme.raised};
  color: ${(p) => p.theme.text};
  border: 1px solid ${(p) => p.theme.quiet};
  font-family: ${(p) => p.theme.sans};
  font-size: ${(p) => p.theme.size.body};
  padding: 12px 16px;
  width: 380px;
  outline: none;
  label {
    display: grid;
    grid-template-columns: 1fr 76px;
    gap: 4px 12px;
    margin: 10px 0;
  }
  small {
    grid-column: 1 / -1;
    color: ${(p) => p.theme.quiet};
    font-size: 12px;
  }
  input {
    font: inherit;
    font-family: ${(p) => p.theme.mono};
    color: inherit;
    background: ${(p) => p.theme.ground};
    border: 1px solid ${(p) => p.theme.quiet};
    padding: 2px 6px;
  }
`;

/** What a point must satisfy to be rebuilt, and running it again so. */
function RebuildLimits({ used, onRun }: { used: Limits; onRun: (limits: Limits) => void }) {
  const [cameras, setCameras] = useState(used.min_cameras);
  const [limit, setLimit] = useState(used.residual_limit_px);
  const fine = cameras >= 2 && cameras <= 12 && limit >= 0.2 && limit <= 10;
  return (
    <DialogTrigger>
      <WordButton aria-label="Limits of the rebuild">limits</WordButton>
      <Popover placement="bottom start">
        <Sheet aria-label="Limits of the rebuild">
          {({ close }) => (
            <form onSubmit={(e) => { e.preventDefault(); if (fine) { onRun({ min_cameras: cameras, residual_limit_px: limit }); close(); } }}>
              <strong>When is it a point?</strong>
              <label>cameras that must see a new point
                <input type="number" min={2} max={12} step={1} value={cameras} onChange={(e) => setCameras(Number(e.target.value))} />
                <small>Two find more behind bodies, and more ghosts; four and more find fewer of both. Usual: 3.</small>
              </label>
              <label>how far off a sighting may lie, px
                <input type="number" min={0.2} max={10} step={0.1} value={limit} onChange={(e) => setLimit(Number(e.target.value))} />
                <small>From where the point appears in that camera’s picture; beyond, the sighting is left out. Usual: 0.7, seven times the noise. More only for a room that is no longer true.</small>
              </label>
              <MainButton type="submit" isDisabled={!fine}>Rebuild, and all that follows</MainButton>
            </form>
          )}
        </Sheet>
      </Popover>
    </DialogTrigger>
  );
}

/** The passes in working order, each with the figure it is judged by, its state and a way to run it again. */
export function PassStrip({ runs, mends, snags, onRun, onCancel }: Props) {
  const by = new Map(runs.map((r) => [r.name, r]));
  const line = by.get('line up');
  const label = by.get('label');
  const solve = by.get('solve');
  const busy = runs.some(atWork);
  const residual = figure(line, 'worst_residual_ms');
  const streams = Object.keys((line?.figures as { streams?: object } | undefined)?.streams ?? {}).length;
  const named = figure(label, 'named_share');
  const rms = figure(solve, 'residual_rms_mm');
  const worst = (solve?.figures as { worst_marker?: string } | undefined)?.worst_marker;
  const rebuild = by.get('rebuild');
  const points = figure(rebuild, 'sd_mm');
  const knocked = ((rebuild?.figures as { knocked?: { camera: string }[] } | undefined)?.knocked ?? []).map((k) => k.camera);
  const limits = { min_cameras: figure(rebuild, 'min_cameras') ?? 3, residual_limit_px: figure(rebuild, 'residual_limit_px') ?? 0.7 };
  const cells = [
    ...(rebuild
      ? [{ title: 'Rebuild', run: rebuild, again: 'rebuild', big: points === null ? null : `±${points.toFixed(2)} mm`, small: knocked.length ? `✕ ${knocked.join(', ')} moved` : 'cameras true', why: 'Expected scatter of the rebuilt points, from the noise of the centroids. Up to 0.3 mm is good. A camera that moved is placed anew in Stage, Trust.' }]
      : []),
    { title: 'Line up', run: line, again: 'line-up', big: residual === null ? null : `±${residual.toFixed(1)} ms`, small: `${streams} streams`, why: 'Scatter of the timecode stamps about the fitted clock, worst stream. Up to 1 ms is good.' },
    { title: 'Label', run: label, again: 'label', big: named === null ? null : `${(100 * named).toFixed(1)} %`, small: 'of points named', why: 'Share of all points that have a marker’s name. The rest are ghosts or unclaimed.' },
    { title: 'Mend', run: undefined, again: null, big: solve ? `${snags} snag${snags === 1 ? '' : 's'}` : null, small: `${mends} mended`, why: 'Snags left in the list on the right, and mends accepted so far.' },
    { title: 'Solve', run: solve, again: 'solve', big: rms === null ? null : `${rms.toFixed(1)} mm`, small: worst ? `worst ${worst}` : '', why: 'Distance of the markers from the solved body, RMS. Skin moves 2 to 8 mm over bone, so up to 8 mm is good.' },
  ];
  return (
    <Strip aria-label="Passes">
      {cells.map((c) => {
        const active = c.run && atWork(c.run) ? c.run : null;
        return (
          <Pass key={c.title} aria-label={c.title}>
            <h2>
              {c.title}
              {active ? (
                <WordButton onPress={() => onCancel(active)} aria-label={`Cancel ${c.title}`}>cancel</WordButton>
              ) : (
                c.again && !busy && <span style={{ display: 'flex', gap: 10 }}>{c.again === 'rebuild' && <RebuildLimits key={rebuild!.id} used={limits} onRun={(l) => onRun('rebuild', l)} />}<WordButton onPress={() => onRun(c.again!, c.again === 'rebuild' ? limits : undefined)} aria-label={`Run ${c.title} again`}>run again</WordButton></span>
              )}
            </h2>
            <div title={c.why} aria-live="polite">
              {active ? (
                <span>{active.state === 'queued' ? 'queued' : `at work, ${Math.round(active.progress * 100)} %`}</span>
              ) : c.run?.state === 'failed' || c.run?.state === 'cancelled' ? (
                <span title={c.run.message}>{c.run.state === 'failed' ? `✕ ${c.run.message}` : 'cancelled'}</span>
              ) : c.big ? (
                <>
                  <Big>{c.big}</Big>
                  <Quiet>{c.small}</Quiet>
                </>
              ) : (
                <Quiet>not begun</Quiet>
              )}
            </div>
            {active && <Progress value={active.progress} words={`${c.title} progress`} />}
          </Pass>
        );
      })}
    </Strip>
  );
}
