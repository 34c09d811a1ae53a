import { useMutation } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { put, type CharacterOut } from '../api/client';
import { Choice, Slide } from '../parts/choices';
import { Figure, Quiet, Trouble, WordButton } from '../parts/controls';
import { useDevices } from '../queries/production';
import { paper } from '../theme';
import { Scroll } from './character-map';
import { inWords } from './character-words';

type Driver = CharacterOut['map']['drivers'][number];

/** Which face shapes of the performer move which of the character's, and how far. Several may move one. */
export function FaceTable({ character, keep }: { character: CharacterOut; keep: (now: CharacterOut) => void }) {
  const { drivers } = character.map;
  const change = useMutation({
    mutationFn: (rows: Driver[]) => put<CharacterOut>(`/characters/${character.id}/shapes`, { drivers: rows }),
    onSuccess: keep,
  });
  const replace = (driver: Driver, by: Driver | null) => change.mutate(drivers.flatMap((d) => (d === driver ? (by ? [by] : []) : [d])));
  const add = (target: string, shape: string) => change.mutate([...drivers, { shape, target, gain: 1, offset: 0, low: 0, high: 1 }]);
  const face = useDevices().data?.find((d) => d.id === 'face');
  const ours = (face?.channels ?? []).map((id) => ({ id, words: inWords(id) }));
  const driven = character.shapes.filter((t) => drivers.some((d) => d.target === t));
  const rows = [...character.shapes.filter((t) => !driven.includes(t)), ...driven];
  return (
    <div>
      <div style={{ display: 'flex', alignItems: 'baseline', gap: 12 }}>
        <h2 style={{ margin: 0, fontSize: 15 }}>Face shapes</h2>
        <Quiet>{driven.length} of {character.shapes.length} move · map v{character.map.version}</Quiet>
      </div>
      <Trouble error={change.error} />
      <Scroll tabIndex={0} role="group" aria-label="Face sheet">
        {rows.map((target) => (
          <div key={target} role="group" aria-label={target} style={{ padding: '6px 0', borderBottom: `1px solid ${paper.hairline}` }}>
            <Figure style={{ fontSize: 12, overflowWrap: 'anywhere' }}>{target}</Figure>
            {drivers.filter((d) => d.target === target).map((d) => (
              <div key={d.shape} style={{ display: 'grid', gridTemplateColumns: '1fr 124px 44px 20px', gap: 8, alignItems: 'center' }}>
                <Quiet>{inWords(d.shape)}</Quiet>
                <Gain label={`Gain of ${inWords(d.shape)} on ${target}`} value={d.gain} onDone={(gain) => replace(d, { ...d, gain })} />
                <Figure style={{ fontSize: 12 }}>×{d.gain.toFixed(2)}</Figure>
                <WordButton aria-label={`Take ${inWords(d.shape)} off ${target}`} isDisabled={change.isPending} onPress={() => replace(d, null)}>✕</WordButton>
              </div>
            ))}
            <Choice label={`Another shape that moves ${target}`} hidden empty="add a shape that moves it" options={ours.filter((o) => !drivers.some((d) => d.target === target && d.shape === o.id))} value={null} isDisabled={change.isPending} onChange={(shape) => add(target, shape)} />
          </div>
        ))}
        {character.shapes.length === 0 && <p><Quiet>This file has no face shapes. Eyes and jaw move by their bones, where it has them.</Quiet></p>}
      </Scroll>
    </div>
  );
}

/** A gain that is sent when the slider is let go. */
function Gain({ label, value, onDone }: { label: string; value: number; onDone: (value: number) => void }) {
  const [now, setNow] = useState(value);
  useEffect(() => setNow(value), [value]);
  return <Slide label={label} min={0} max={2} step={0.05} value={now} onChange={setNow} onDone={onDone} />;
}
