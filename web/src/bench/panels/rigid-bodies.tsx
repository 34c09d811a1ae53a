import { useState } from 'react';
import styled from 'styled-components';
import type { StreamOut } from '../../api/client';
import { inWords } from '../../parts/bone-words';
import { Choice, Slide } from '../../parts/choices';
import { Figure, MainButton, PlainButton, Quiet } from '../../parts/controls';
import { streamOf } from '../../queries/take';
import type { Settings } from '../passes';
import type { BenchState } from '../state';
import type { BenchPanel } from './contract';

const Wrap = styled.section`
  display: flex;
  flex-direction: column;
  height: 100%;
  min-height: 0;
  background: ${(p) => p.theme.raised};
  border-left: 1px solid ${(p) => p.theme.hairline};
  > header,
  > footer {
    display: flex;
    justify-content: space-between;
    align-items: center;
    gap: 10px;
    padding: 8px 14px;
    border-bottom: 1px solid ${(p) => p.theme.hairline};
    h2 {
      margin: 0;
      font-size: 13.5px;
    }
  }
  > footer {
    border-top: 1px solid ${(p) => p.theme.hairline};
    border-bottom: 0;
  }
  > div {
    flex: 1;
    overflow-y: auto;
    padding: 6px 14px 12px;
  }
  h3 {
    margin: 10px 0 4px;
    font-size: 13px;
    font-weight: normal;
    color: ${(p) => p.theme.quiet};
  }
`;

const Rows = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 138px 62px;
  gap: 4px 10px;
  align-items: center;
  font-size: 13px;
  > span {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
`;

const Right = styled(Figure)`
  text-align: right;
`;

const UNUSED = '';

/** Which body is on which bone: as somebody has said, or else as the solve proposed. */
export function bodiesOn(names: string[], said: Record<string, string>, proposed: string[]): Record<string, string> {
  const decided = Object.keys(said).length > 0;
  return Object.fromEntries(names.map((name, i) => [name, decided ? (said[name] ?? UNUSED) : (proposed[i] ?? UNUSED)]));
}

/** Joints of the body that no rigid body holds from both sides, as far as the solve lets them be adjusted. */
export const softJoints = (joints: string[], on: Record<string, string>): string[] => {
  const held = new Set(Object.values(on));
  return joints.filter((joint) => joint !== 'hips' && !held.has(joint) && !joint.endsWith('Toes'));
};

const usedOf = (bench: BenchState): Settings =>
  (bench.runs.find((r) => r.name === 'solve' && (!r.performer || r.performer === bench.who))?.parameters ?? {}) as Settings;

function Table({ bench, tracker, track }: { bench: BenchState; tracker: StreamOut; track: StreamOut | undefined }) {
  const used = usedOf(bench);
  const tables = bench.data.passes.find((p) => p.name === 'solve')?.tables ?? [];
  const bones = tables.find((t) => t.name === 'bodies_on')?.choices ?? [];
  const stiffness = tables.find((t) => t.name === 'stiffness');
  const said = (used.bodies_on ?? {}) as Record<string, string>;
  const before = bodiesOn(tracker.details.names ?? [], said, track?.details.bones ?? []);
  const [on, setOn] = useState(before);
  const [stiff, setStiff] = useState((used.stiffness ?? {}) as Record<string, number>);
  const told = track?.details;
  const turned = Object.fromEntries((told?.joints ?? []).map((joint, i) => [joint, told?.turned_deg?.[i]]));
  const chosen = Object.entries(on).filter(([, bone]) => bone !== UNUSED);
  const twice = chosen.find(([, bone], i) => chosen.findIndex(([, other]) => other === bone) !== i)?.[1];
  const moved = Object.keys(on).some((name) => on[name] !== before[name]);
  const stiffened = Object.keys(stiff).some((joint) => stiff[joint] !== ((used.stiffness ?? {}) as Record<string, number>)[joint]);
  const run = (settings: Settings) => bench.runPass('solve', { ...used, ...settings });
  const options = [{ id: UNUSED, words: 'not used' }, ...bones.map((id) => ({ id, words: inWords(id) }))];
  return (
    <Wrap aria-label="Rigid bodies">
      <header>
        <h2>Rigid bodies</h2>
        <Quiet>{chosen.length} of {Object.keys(on).length} on limbs</Quiet>
      </header>
      <div>
        <Rows role="group" aria-label="Which body is on which limb">
          {Object.keys(on).flatMap((name) => {
            const i = told?.names?.indexOf(name) ?? -1;
            const residual = told?.residual_mm?.[i];
            const why = told?.left_out?.[i];
            return [
              <span key={`${name} name`} title={why ? `${name} is left out: ${why}` : name}>{name}</span>,
              <Choice key={`${name} bone`} hidden label={`${name} is on`} options={options} value={on[name]} onChange={(bone) => setOn({ ...on, [name]: bone })} isDisabled={bench.working} />,
              typeof residual === 'number'
                ? <Right key={`${name} residual`} title="How far the body is from where the solved limb has it, RMS.">{residual.toFixed(1)} mm</Right>
                : <Quiet key={`${name} residual`} title={why} style={{ textAlign: 'right' }}>{why ? 'left out' : ''}</Quiet>,
            ];
          })}
        </Rows>
        {track && stiffness && (
          <>
            <h3>{stiffness.words} of joints without a body of their own, and how far they turn</h3>
            <Rows role="group" aria-label={stiffness.words} title={stiffness.sentence}>
              {softJoints(told?.joints ?? [], on).flatMap((joint) => [
                <span key={`${joint} name`}>{inWords(joint)}</span>,
                <Slide key={`${joint} slide`} label={`Stiffness of ${inWords(joint)}`} value={stiff[joint] ?? 0.5} min={0} max={1} step={0.05} onChange={(value) => setStiff({ ...stiff, [joint]: value })} />,
                <Right key={`${joint} turns`} title="How far the joint turns about its mean, RMS over the take.">{turned[joint] === undefined ? '' : `± ${turned[joint]?.toFixed(1)}°`}</Right>,
              ])}
            </Rows>
          </>
        )}
      </div>
      <footer>
        {twice ? <Quiet role="alert">Two bodies are on the {inWords(twice)}; expected one.</Quiet> : Object.keys(said).length > 0 ? <PlainButton isDisabled={bench.working} onPress={() => run({ bodies_on: {} })}>As proposed</PlainButton> : <span />}
        <MainButton isDisabled={!(moved || stiffened) || twice !== undefined || bench.working} onPress={() => run({ ...(moved ? { bodies_on: Object.fromEntries(chosen) } : {}), stiffness: stiff })}>Solve so</MainButton>
      </footer>
    </Wrap>
  );
}

/** Which rigid body is on which limb, and how stiff the joints between them are. */
export const rigidBodiesPanel: BenchPanel = {
  id: 'rigid-bodies',
  name: 'The list of rigid bodies',
  side: 'side',
  tab: 'Rigid bodies',
  isFor: (data) => data.streams.some((s) => s.name === 'tracker'),
  Show: ({ bench }) => {
    const tracker = streamOf(bench.data.streams, 'tracker', bench.who);
    const track = streamOf(bench.data.streams, 'rigid bodies', bench.who);
    return tracker ? <Table key={`${track?.id} ${JSON.stringify(usedOf(bench))}`} bench={bench} tracker={tracker} track={track} /> : null;
  },
};
