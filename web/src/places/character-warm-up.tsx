import { useEffect, useMemo, useRef, useState } from 'react';
import styled from 'styled-components';
import type { CharacterOut, PerformerOut } from '../api/client';
import { Choice, Slide } from '../parts/choices';
import { Figure, PlainButton, Trouble, WordButton } from '../parts/controls';
import { inWords } from '../parts/bone-words';
import { useCharacterFiles, useOwnFile, useWarmUpOn, type WarmUpOn } from '../queries/characters';
import { Transport } from '../time/transport';
import { CharacterView } from '../view/character-view';
import type { PropView } from '../view/pose';
import { StageView } from '../view/stage-view';
import type { Threads } from '../view/threads';
import { SURE, type MapState } from './character-map';

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

const Stage = styled.div`
  position: relative;
  height: min(56vh, 560px);
  border: 1px solid ${(p) => p.theme.hairline};
  background: ${(p) => p.theme.raised};
`;

export const Bar = styled.div`
  display: flex;
  align-items: center;
  gap: 14px;
  padding: 8px 0;
`;

const WAYS = [
  { id: 'alone', words: 'alone' },
  { id: 'beside', words: 'beside the performer' },
  { id: 'over', words: 'over the performer' },
];
const ASIDE_M = 1.4;
const NOBODY: string[] = [];
// Limbs point where the performer's point, however they rest; only their roll can be set.
const FOLLOWS = /UpperArm|LowerArm|Hand|UpperLeg|LowerLeg|Thumb|Index|Middle|Ring|Little/;

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

export function WarmUp({ character, performers, map }: { character: CharacterOut; performers: PerformerOut[]; map: MapState }) {
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
  const { mutate: turnRest } = map.turn;
  const row = character.map.pairs.find((p) => p.bone === picked) ?? null;
  const threads = useMemo(
    (): Threads | null =>
      withThreads && way === 'beside'
        ? {
            pairs: character.map.pairs.map((p) => ({ bone: p.bone, targets: p.target, doubtful: p.doubt !== '' || p.confidence < SURE })),
            picked, fingers: hands, onPick: setPicked,
            onTarget: (target) => picked && !isPending && mutate({ bone: picked, target: [target] }),
            turn: row && { bone: row.bone, target: row.target[row.target.length - 1], given: row.rest_turn, follows: FOLLOWS.test(row.bone), onTurn: (degrees) => turnRest({ bone: row.bone, degrees }) },
          }
        : null,
    [withThreads, way, character.map.pairs, picked, hands, setPicked, mutate, isPending, row, turnRest],
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
        {threads && picked && <Hint>{inWords(picked)}: click a joint of {character.name}, or choose in the table{row ? '; drag the handle at its end to turn it at rest' : ''}</Hint>}
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
