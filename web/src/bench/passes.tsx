import { Fragment, useState } from 'react';
import { DialogTrigger, Popover } from 'react-aria-components';
import styled from 'styled-components';
import type { PassOut, RunOut } from '../api/client';
import { Choice } from '../parts/choices';
import { Figure, MainButton, Progress, Quiet, WordButton } from '../parts/controls';
import { Sheet } from '../parts/sheet';
import { atWork } from '../parts/verdict';

const Strip = styled.div`
  display: grid;
  grid-auto-columns: minmax(178px, 1fr);
  grid-auto-flow: column;
  overflow-x: auto;
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

/** A setting: a number, or one that changes in the take as [seconds, value]. */
export type Setting = number | [number, number][];
/** All settings of a pass; its tables have a value for each of several things. */
export type Settings = Record<string, Setting | Record<string, string | number>>;

/** A character and who plays it. */
export type PlayedBy = { id: number; name: string; performer: string };

type Cell = { pass: PassOut; run: RunOut | undefined; heading: string; character?: number };

type Props = {
  passes: PassOut[];
  played: PlayedBy[];
  runs: RunOut[];
  mends: number;
  snags: number;
  onRun: (name: string, settings?: Settings, character?: number, basedOn?: number) => void;
  onCancel: (run: RunOut) => void;
};

/** The settings of a pass, as it declares them, and running it again so. */
function PassSettings({ pass, heading, used, onRun }: { pass: PassOut; heading: string; used: Settings; onRun: (settings: Settings) => void }) {
  const [values, setValues] = useState<Record<string, Setting>>(() => Object.fromEntries(pass.parameters.map((p) => [p.name, (used[p.name] as Setting | undefined) ?? p.default])));
  const fine = pass.parameters.every((p) => {
    const value = values[p.name];
    return typeof value !== 'number' || (value >= p.low && value <= p.high && (!p.whole || Number.isInteger(value)));
  });
  return (
    <DialogTrigger>
      <WordButton aria-label={`Settings of ${heading}`}>settings</WordButton>
      <Popover placement="bottom start">
        <Sheet aria-label={`Settings of ${heading}`}>
          {({ close }) => (
            <form onSubmit={(e) => { e.preventDefault(); if (fine) { onRun({ ...used, ...values }); close(); } }}>
              <strong>{heading}</strong>
              {pass.parameters.map((p) => p.choices.length ? (
                <div key={p.name} style={{ margin: '10px 0' }}>
                  <Choice label={p.words} options={p.choices.map((words, id) => ({ id, words }))} value={values[p.name] as number} onChange={(value) => setValues({ ...values, [p.name]: value })} />
                  <small>{p.sentence}</small>
                </div>
              ) : (
                <label key={p.name}>{p.words}{p.whole || !p.unit ? '' : `, ${p.unit}`}
                  {typeof values[p.name] === 'number' ? (
                    <input type="number" min={p.low} max={p.high} step={p.step} value={Number.isNaN(values[p.name]) ? '' : (values[p.name] as number)} onChange={(e) => setValues({ ...values, [p.name]: e.target.valueAsNumber })} />
                  ) : (
                    <WordButton onPress={() => setValues({ ...values, [p.name]: p.default })}>in its lane</WordButton>
                  )}
                  <small>{p.sentence}</small>
                </label>
              ))}
              <MainButton type="submit" isDisabled={!fine}>Run again, and all that follows</MainButton>
            </form>
          )}
        </Sheet>
      </Popover>
    </DialogTrigger>
  );
}

function stateOf(run: RunOut | undefined) {
  if (!run) return <Quiet>not begun</Quiet>;
  if (atWork(run)) return <span>{run.state === 'queued' ? 'queued' : `${run.doing}, ${Math.round(run.progress * 100)} %`}</span>;
  if (run.state === 'failed') return <span title={run.message}>✕ {run.message}</span>;
  if (run.state === 'cancelled') return <span title={run.message}>cancelled</span>;
  return (
    <>
      {run.figure && <Big>{run.figure.text}</Big>}
      <Quiet>{run.aside}</Quiet>
    </>
  );
}

/** The passes in working order, each with the figure it is judged by, its state and a way to run it again. */
export function PassStrip({ passes, played, runs, mends, snags, onRun, onCancel }: Props) {
  const busy = runs.some(atWork);
  const cells = passes.flatMap((pass): Cell[] => {
    const mine = runs.filter((r) => r.name === pass.name);
    if (pass.about !== 'character') return [{ pass, run: mine.find((r) => r.state === 'failed') ?? mine.find(atWork) ?? mine[0], heading: pass.words }];
    return played.map(({ id, name, performer }) => ({
      pass, character: id, run: mine.find((r) => r.character_id === id && r.performer === performer),
      heading: played.filter((p) => p.id === id).length > 1 ? `${name} · ${performer}` : name,
    }));
  });
  const lastPass = cells.filter((c) => c.character === undefined).length - 1;
  return (
    <Strip aria-label="Passes">
      {cells.map(({ pass, run, heading, character }, i) => (
        <Fragment key={`${pass.name} ${heading}`}>
          {i === lastPass && (
            <Pass aria-label="Mend">
              <h2>Mend</h2>
              <div title="Snags in the list on the right that are worth a look, and mends accepted so far."><Big>{snags} snag{snags === 1 ? '' : 's'}</Big><Quiet>{mends} mended</Quiet></div>
            </Pass>
          )}
          <Pass aria-label={character === undefined ? pass.words : `${pass.words} ${heading}`}>
            <h2>
              {heading}
              {run && atWork(run) ? (
                <WordButton onPress={() => onCancel(run)} aria-label={`Cancel ${pass.words}${character === undefined ? '' : ` ${heading}`}`}>cancel</WordButton>
              ) : (
                !busy && (
                  <span style={{ display: 'flex', gap: 10 }}>
                    {pass.parameters.length > 0 && <PassSettings key={run?.id} pass={pass} used={(run?.parameters ?? {}) as Settings} heading={character === undefined ? pass.words : `${pass.words} ${heading}`} onRun={(values) => onRun(pass.name, values, character, run?.id)} />}
                    <WordButton onPress={() => onRun(pass.name, (run?.parameters ?? {}) as Settings, character, run?.id)} aria-label={`Run ${character === undefined ? pass.words : `${pass.words} ${heading}`} again`}>again</WordButton>
                  </span>
                )
              )}
            </h2>
            <div title={run?.map_version ? `${pass.sentence} Made with v${run.map_version} of the map.` : pass.sentence} aria-live="polite">{stateOf(run)}</div>
            {run && atWork(run) && <Progress value={run.progress} words={`${heading} progress`} />}
          </Pass>
        </Fragment>
      ))}
    </Strip>
  );
}
