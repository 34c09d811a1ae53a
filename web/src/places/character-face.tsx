import { useMutation } from '@tanstack/react-query';
import { Fragment, useEffect, useState } from 'react';
import styled from 'styled-components';
import { put, type CharacterOut } from '../api/client';
import { Choice, Slide } from '../parts/choices';
import { fieldLook, Figure, Quiet, Trouble, WordButton } from '../parts/controls';
import { inWords } from '../parts/bone-words';
import { useDevices } from '../queries/production';
import { paper } from '../theme';
import { Scroll } from './character-map';

type Driver = CharacterOut['map']['drivers'][number];

const Limits = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 2px 14px;
  padding: 2px 0 6px;
  font-size: ${(p) => p.theme.size.small};
  color: ${(p) => p.theme.quiet};
  label {
    display: inline-flex;
    gap: 6px;
    align-items: center;
  }
  input {
    ${fieldLook}
    width: 66px;
    padding: 2px 4px;
  }
`;

/** Which face shapes of the performer move which of the character's, and how far. Several may move one. */
export function FaceTable({ character, keep }: { character: CharacterOut; keep: (now: CharacterOut) => void }) {
  const { drivers } = character.map;
  const change = useMutation({
    mutationFn: (rows: Driver[]) => put<CharacterOut>(`/characters/${character.id}/shapes`, { drivers: rows, based_on: character.map.version }),
    onSuccess: keep,
  });
  const replace = (driver: Driver, by: Driver | null) => change.mutate(drivers.flatMap((d) => (d === driver ? (by ? [by] : []) : [d])));
  const add = (target: string, shape: string) => change.mutate([...drivers, { shape, target, gain: 1, offset: 0, low: 0, high: 1 }]);
  const face = useDevices().data?.find((d) => d.id === 'face');
  const ours = (face?.channels ?? []).map((id) => ({ id, words: inWords(id) }));
  const driven = character.shapes.filter((t) => drivers.some((d) => d.target === t));
  const [open, setOpen] = useState<string | null>(null);
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
              <Fragment key={d.shape}>
              <div style={{ display: 'grid', gridTemplateColumns: '1fr 124px 44px auto 20px', gap: 8, alignItems: 'center' }}>
                <Quiet>{inWords(d.shape)}</Quiet>
                <Gain label={`Gain of ${inWords(d.shape)} on ${target}`} value={d.gain} onDone={(gain) => replace(d, { ...d, gain })} />
                <Figure style={{ fontSize: 12 }}>×{d.gain.toFixed(2)}</Figure>
                <WordButton aria-label={`Limits of ${inWords(d.shape)} on ${target}`} aria-expanded={open === key(d)} onPress={() => setOpen(open === key(d) ? null : key(d))}>{isPlain(d) ? 'limits' : 'limited'}</WordButton>
                <WordButton aria-label={`Take ${inWords(d.shape)} off ${target}`} isDisabled={change.isPending} onPress={() => replace(d, null)}>✕</WordButton>
              </div>
              {open === key(d) && (
                <Limits>
                  <Kept words="offset" value={d.offset} min={-1} max={1} onDone={(offset) => replace(d, { ...d, offset })} />
                  <Kept words="at least" value={d.low} min={-1} max={d.high} onDone={(low) => replace(d, { ...d, low })} />
                  <Kept words="at most" value={d.high} min={d.low} max={2} onDone={(high) => replace(d, { ...d, high })} />
                </Limits>
              )}
              </Fragment>
            ))}
            <Choice label={`Another shape that moves ${target}`} hidden empty="add a shape that moves it" options={ours.filter((o) => !drivers.some((d) => d.target === target && d.shape === o.id))} value={null} isDisabled={change.isPending} onChange={(shape) => add(target, shape)} />
          </div>
        ))}
        {character.shapes.length === 0 && <p><Quiet>This file has no face shapes. Eyes and jaw move by their bones, where it has them.</Quiet></p>}
      </Scroll>
    </div>
  );
}

const key = (d: Driver) => `${d.shape} ${d.target}`;
const isPlain = (d: Driver) => d.offset === 0 && d.low === 0 && d.high === 1;

/** A number that is sent when it is left, or at Enter, and is put back where it is none. */
function Kept({ words, value, min, max, onDone }: { words: string; value: number; min: number; max: number; onDone: (value: number) => void }) {
  const [now, setNow] = useState(String(value));
  useEffect(() => setNow(String(value)), [value]);
  const send = () => {
    const wanted = Number(now);
    if (now.trim() === '' || !Number.isFinite(wanted) || wanted < min || wanted > max) setNow(String(value));
    else if (wanted !== value) onDone(wanted);
  };
  return (
    <label>{words}<input type="number" min={min} max={max} step={0.05} value={now} onChange={(e) => setNow(e.target.value)} onBlur={send} onKeyDown={(e) => e.key === 'Enter' && send()} /></label>
  );
}

/** A gain that is sent when the slider is let go. */
function Gain({ label, value, onDone }: { label: string; value: number; onDone: (value: number) => void }) {
  const [now, setNow] = useState(value);
  useEffect(() => setNow(value), [value]);
  return <Slide label={label} min={0} max={2} step={0.05} value={now} onChange={setNow} onDone={onDone} />;
}
