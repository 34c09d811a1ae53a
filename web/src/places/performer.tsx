import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import styled, { useTheme } from 'styled-components';
import { post, type PerformerOut, type Schemas } from '../api/client';
import { Empty, Figure, FormLine, MainButton, PlainButton, Quiet, tableLook, TextInput, Trouble, WordButton } from '../parts/controls';
import { Tick } from '../parts/choices';
import { verdict } from '../parts/verdict';
import { useDevices, useMeasures, useSlate } from '../queries/production';

const Figures = styled.dl`
  display: grid;
  grid-template-columns: repeat(4, minmax(0, 1fr));
  gap: 16px 24px;
  margin: 14px 0 22px;
  dt {
    color: ${(p) => p.theme.quiet};
    font-size: 12px;
  }
  dd {
    margin: 0;
    font-size: 19px;
  }
  small {
    display: block;
    color: ${(p) => p.theme.quiet};
    font-size: 12px;
  }
`;

const Two = styled.div`
  display: grid;
  grid-template-columns: minmax(300px, 380px) 1fr;
  gap: 32px;
  table {
    ${tableLook}
  }
  td,
  th {
    padding: 3px 10px 3px 0;
  }
  td + td {
    text-align: right;
  }
  h3 {
    margin: 0 0 8px;
    font-size: 14px;
  }
`;

const UNSURE_DEG = 8;

const median = (values: number[]) => [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)] ?? 0;

/** "leftUpperArm" as "left upper arm"; the sensor on the hips is called after the pelvis. */
const inWords = (bone: string) => (bone === 'hips' ? 'pelvis' : bone.replace(/[A-Z]/g, (c) => ` ${c.toLowerCase()}`));

/** Sensors that are worn in each other's place, two or more at a time, as one says them. */
function rounds(sensors: Calibration['sensors']): string[] {
  const by = new Map(sensors.filter((s) => s.exchanged_with).map((s) => [s.bone, s.exchanged_with]));
  const seen = new Set<string>();
  return [...by.keys()].flatMap((first) => {
    if (seen.has(first)) return [];
    const round: string[] = [];
    for (let bone: string | undefined = first; bone && !seen.has(bone); bone = by.get(bone)) {
      seen.add(bone);
      round.push(inWords(bone));
    }
    return [`${round.slice(0, -1).join(', ')} and ${round.at(-1)}`];
  });
}

type Calibration = Schemas['CalibrationOut'];

const PARENT: Record<string, string> = {
  spine: 'hips', chest: 'spine', upperChest: 'chest', neck: 'upperChest', head: 'neck',
  Shoulder: 'upperChest', UpperArm: 'Shoulder', LowerArm: 'UpperArm', Hand: 'LowerArm',
  UpperLeg: 'hips', LowerLeg: 'UpperLeg', Foot: 'LowerLeg', Toes: 'Foot',
};

function parentOf(name: string): string | null {
  const side = name.startsWith('left') ? 'left' : name.startsWith('right') ? 'right' : '';
  const parent = PARENT[name.slice(side.length)] ?? PARENT[name];
  if (!parent) return null;
  return parent === 'upperChest' || parent === 'hips' || side === '' ? parent : side + parent;
}

/** The calibrated body in T-pose from the front, with the markers where they really sit. */
function BodyDrawing({ calibration, height }: { calibration: Calibration; height: number }) {
  const theme = useTheme();
  const bones = calibration.bones;
  const at = new Map<string, [number, number]>();
  for (const b of bones) {
    const parent = parentOf(b.name);
    if (b.name === 'hips') at.set(b.name, [0, b.offset_m[1]]);
    else if (parent && at.has(parent)) {
      const [x, y] = at.get(parent)!;
      at.set(b.name, [x + b.offset_m[0], y + b.offset_m[1]]);
    }
  }
  const scale = 190;
  const X = (x: number) => 210 + x * scale;
  const Y = (y: number) => 20 + (height * 1.06 - y) * scale;
  return (
    <svg viewBox={`0 0 420 ${Math.round(height * 1.06 * scale + 44)}`} width="100%" role="img" aria-label="The calibrated body in T-pose, seen from the front">
      <line x1="10" x2="410" y1={Y(0)} y2={Y(0)} stroke={theme.hairline} />
      {[...at].map(([name, [x, y]]) => {
        const p = parentOf(name);
        if (!p || !at.has(p)) return null;
        const [px, py] = at.get(p)!;
        const side = name.startsWith('left') ? theme.left : name.startsWith('right') ? theme.right : theme.bone;
        return <line key={name} x1={X(px)} y1={Y(py)} x2={X(x)} y2={Y(y)} stroke={side} strokeWidth="4" strokeDasharray={name.startsWith('right') ? '7 3' : undefined} />;
      })}
      {calibration.markers.map((m) => {
        const joint = at.get(m.bone);
        if (!joint) return null;
        return <circle key={m.name} cx={X(joint[0] + m.offset_m[0])} cy={Y(joint[1] + m.offset_m[1])} r="3" fill={theme.text}><title>{m.name}</title></circle>;
      })}
      <text x="396" y={Y(0) + 16} textAnchor="end" fontSize="11" fill={theme.quiet}>performer’s left</text>
      <text x="24" y={Y(0) + 16} fontSize="11" fill={theme.quiet}>performer’s right</text>
    </svg>
  );
}

const LENGTHS: [string, string, string][] = [
  ['Upper arm', 'leftLowerArm', 'rightLowerArm'],
  ['Forearm', 'leftHand', 'rightHand'],
  ['Thigh', 'leftLowerLeg', 'rightLowerLeg'],
  ['Shin', 'leftFoot', 'rightFoot'],
  ['Foot to toes', 'leftToes', 'rightToes'],
];

const SENSOR_ROWS = ['head', 'chest', 'hips', 'Shoulder', 'UpperArm', 'LowerArm', 'Hand', 'UpperLeg', 'LowerLeg', 'Foot'];
const sentenceCase = (words: string) => words[0].toUpperCase() + words.slice(1);

/** How well each sensor's seat is known; left and right of a pair in one row. */
function Sensors({ sensors }: { sensors: Calibration['sensors'] }) {
  const rows = SENSOR_ROWS.filter((part) => sensors.some((s) => s.bone.replace(/^(left|right)/, '') === part));
  const cell = (bone: string) => {
    const s = sensors.find((x) => x.bone === bone);
    return <td key={bone}>{s && <Figure>± {s.sd_deg.toFixed(0)}°</Figure>}</td>;
  };
  return (
    <>
      <h3 style={{ marginTop: 18 }}>How well each sensor is known</h3>
      <table>
        <thead><tr><th>Sensor</th><th style={{ textAlign: 'right' }}>left</th><th style={{ textAlign: 'right' }}>middle</th><th style={{ textAlign: 'right' }}>right</th></tr></thead>
        <tbody>
          {rows.map((part) => (
            <tr key={part}><td>{sentenceCase(inWords(part[0].toLowerCase() + part.slice(1)))}</td>{[`left${part}`, part, `right${part}`].map(cell)}</tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

/** A performer: their calibration, or how to get one. */
export function PerformerDetail({ performer, production }: { performer: PerformerOut; production: number }) {
  const navigate = useNavigate();
  const client = useQueryClient();
  const c = performer.calibrations[0];
  const devices = useDevices().data ?? [];
  const worn = devices.filter((d) => d.id !== 'optical' && performer.kit.includes(d.id));
  const last = useSlate(production, performer.warm_up_slate_id).data?.takes.at(-1);
  const v = last && verdict(last.runs);
  const f: Partial<Calibration['figures']> = c?.figures ?? {};
  const suitAlone = f.suit_residual_deg != null;
  const unsure = c?.sensors.filter((s) => s.sd_deg > UNSURE_DEG).map((s) => inWords(s.bone)) ?? [];
  const exchanged = rounds(c?.sensors ?? []);
  const length = (name: string) => {
    const b = c?.bones.find((x) => x.name === name);
    return b ? Math.round(1000 * Math.hypot(...b.offset_m)) : 0;
  };
  const warmUp = useMutation({
    mutationFn: (_: 'roll' | 'files') => post<PerformerOut>(`/performers/${performer.id}/warm-up`),
    onSuccess: async (p, how) => {
      await client.invalidateQueries({ queryKey: ['board', production] }); // the slate may be new
      navigate(how === 'roll' ? `/p/${production}/floor/${p.warm_up_slate_id}` : `/p/${production}/shoot?slate=${p.warm_up_slate_id}`);
    },
  });
  const roll = <MainButton onPress={() => warmUp.mutate('roll')} isDisabled={warmUp.isPending}>Roll a warm-up</MainButton>;
  return (
    <div>
      <div style={{ display: 'flex', alignItems: 'baseline', gap: 18 }}>
        <h1 style={{ margin: 0, fontSize: 22 }}>{performer.name}</h1>
        <span><Figure>{performer.height_m.toFixed(2)}</Figure> m</span>
        <Quiet>{performer.kit.map((k) => devices.find((d) => d.id === k)?.words ?? k).join(' · ')}</Quiet>
        <span style={{ marginLeft: 'auto' }}>{roll}</span>
      </div>
      <Trouble error={warmUp.error} />
      {v?.working && <p aria-live="polite">The last warm-up is being worked through: {v.state}.</p>}
      {v?.tone === 'wrong' && <Trouble error={`The last warm-up gave no calibration: ${v.words}`} />}
      {!c && !v?.working && (
        <Empty style={{ marginTop: 18 }}>
          <h2>Not calibrated yet</h2>
          {performer.kit.includes('optical') ? (
            <p>A warm-up of about 40 s gives bone lengths, marker positions, suit sensors, gloves and the neutral face, without anybody clicking.</p>
          ) : (
            <p>A warm-up of about a minute shows how every sensor of the suit sits: hold still with the arms down and in a T-pose, move every joint, take some steps.</p>
          )}
          <div style={{ display: 'flex', gap: 10 }}>
            {roll}
            <PlainButton onPress={() => warmUp.mutate('files')} isDisabled={warmUp.isPending}>From files</PlainButton>
          </div>
        </Empty>
      )}
      {c && (
        <>
          <Figures>
            <div><dt>Calibration</dt><dd>v{c.version}</dd><small>{new Date(c.made_at).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'short' })}</small></div>
            {suitAlone ? (
              <>
                <div><dt>Poses of the warm-up, RMS</dt><dd><Figure>{f.suit_residual_deg?.toFixed(1)}°</Figure> off</dd><small>nobody holds a pose exactly: up to 10° is usual</small></div>
                <div><dt>Sensors known within, median</dt><dd><Figure>± {median(c.sensors.map((s) => s.sd_deg)).toFixed(1)}°</Figure></dd><small>calibrated from the suit alone</small></div>
              </>
            ) : (
              <>
                <div><dt>Markers to body, RMS</dt><dd><Figure>{f.residual_rms_mm?.toFixed(1)} mm</Figure></dd><small>{(f.residual_rms_mm ?? 99) < 5 ? 'good: under 5 mm' : 'high: over 5 mm, look at the markers'}</small></div>
                <div><dt>Points named</dt><dd><Figure>{(100 * (f.named_share ?? 0)).toFixed(1)} %</Figure></dd><small>nobody clicked</small></div>
              </>
            )}
            {worn.map((d) => {
              const found = c.devices.find((x) => x.id === d.id);
              return <div key={d.id}><dt>{d.words}</dt><dd>{found ? <Figure>{found.said}</Figure> : <Quiet>not calibrated</Quiet>}</dd><small>{found?.details}</small></div>;
            })}
            <div style={{ gridColumn: 'span 2' }}><dt>To check</dt><dd style={{ fontSize: 14 }}>
              {f.joints_hardly_moved?.length ? `Hardly moved: ${f.joints_hardly_moved.join(', ')}. ` : ''}
              {f.markers_never_seen?.length ? `Never seen: ${f.markers_never_seen.join(', ')}. ` : ''}
              {exchanged.length > 0 && `Worn in each other’s place, read the other way round: ${exchanged.join(', ')}. `}
              {suitAlone && unsure.length > 0 && `Known within no better than ${UNSURE_DEG}°: ${unsure.join(', ')}.`}
              {suitAlone && !exchanged.length && !unsure.length && 'Every sensor is on its limb and well known.'}
              {!suitAlone && !f.joints_hardly_moved?.length && !f.markers_never_seen?.length && 'Every limb moved and every marker was seen.'}
            </dd></div>
          </Figures>
          <Two>
            <div>
              <h3>Bones, mm</h3>
              <table>
                <thead><tr><th>Bone</th><th style={{ textAlign: 'right' }}>left</th><th style={{ textAlign: 'right' }}>right</th></tr></thead>
                <tbody>
                  {LENGTHS.map(([words, l, r]) => (
                    <tr key={words}><td>{words}</td><td><Figure>{length(l)}</Figure></td><td><Figure>{length(r)}</Figure></td></tr>
                  ))}
                </tbody>
              </table>
              {f.notes?.map((n) => <p key={n} style={{ margin: '4px 0 0', maxWidth: 420 }}><Quiet>{sentenceCase(n)}.</Quiet></p>)}
              {suitAlone && <Sensors sensors={c.sensors} />}
              {c.warm_up_take_id && <p><Link to={`/p/${production}/bench/${c.warm_up_take_id}`}>The warm-up on the bench</Link></p>}
              {performer.calibrations.length > 1 && <p><Quiet>Earlier versions kept: {performer.calibrations.slice(1).map((x) => `v${x.version}`).join(', ')}</Quiet></p>}
            </div>
            <div style={{ maxWidth: 520 }}>
              <BodyDrawing calibration={c} height={performer.height_m} />
            </div>
          </Two>
        </>
      )}
    </div>
  );
}

const BODY_FROM = ['optical', 'suit'];
const metres = (text: string) => Number(text.replace(',', '.'));

export function NewPerformer({ production, onDone }: { production: number; onDone: (id?: number) => void }) {
  const client = useQueryClient();
  const [name, setName] = useState('');
  const [height, setHeight] = useState('');
  const known = useDevices();
  const devices = known.data?.filter((d) => d.worn) ?? [];
  const [left, setLeft] = useState<string[]>([]); // what is left out
  const [measured, setMeasured] = useState<Record<string, string>>({});
  const measures = useMeasures().data?.filter((m) => m.name !== 'height_m') ?? [];
  const kit = devices.map((d) => d.id).filter((d) => !left.includes(d));
  const add = useMutation({
    mutationFn: () => post<PerformerOut>(`/productions/${production}/performers`, { name, height_m: metres(height), kit, measures: kit.includes('optical') ? {} : Object.fromEntries(Object.entries(measured).filter(([, v]) => v.trim()).map(([k, v]) => [k, metres(v)])) }),
    onSuccess: async (p) => {
      await client.invalidateQueries({ queryKey: ['cast', production] });
      onDone(p.id);
    },
  });
  return (
    <div>
      <h1 style={{ margin: '0 0 12px', fontSize: 22 }}>New performer</h1>
      <FormLine
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <TextInput label="Name" value={name} onChange={setName} isRequired maxLength={60} autoFocus />
        <TextInput label="Height in metres" value={height} onChange={setHeight} isRequired style={{ width: 130 }} />
        {devices.map(({ id, words }) => (
          <Tick key={id} isSelected={kit.includes(id)} isDisabled={kit.includes(id) && BODY_FROM.includes(id) && !BODY_FROM.some((b) => b !== id && kit.includes(b))} onChange={(on) => setLeft(on ? left.filter((k) => k !== id) : [...left, id])}>{words}</Tick>
        ))}
        {/* not before the ticks: they would push it away from under the pointer */}
        {!known.isPending && <PlainButton type="submit" isDisabled={add.isPending}>Add performer</PlainButton>}
        <WordButton onPress={() => onDone()}>never mind</WordButton>
      </FormLine>
      <Quiet>A body comes from markers, from a suit, or from both. Markers tell the lengths of bones themselves; a suit needs them measured or estimates them.</Quiet>
      {!kit.includes('optical') && (
        <section aria-label="Measures" style={{ marginTop: 18 }}>
          <h2 style={{ fontSize: 15, margin: '0 0 4px' }}>Measures in metres</h2>
          <Quiet>What stays empty is estimated from the height.</Quiet>
          <div style={{ display: 'grid', gridTemplateColumns: 'repeat(4, minmax(130px, 200px))', gap: '10px 18px', marginTop: 10 }}>
            {measures.map((m) => (
              <TextInput key={m.name} label={sentenceCase(m.words)} value={measured[m.name] ?? ''} onChange={(v) => setMeasured({ ...measured, [m.name]: v })}
                placeholder={metres(height) > 0 ? (m.share * metres(height)).toFixed(2) : ''} />
            ))}
          </div>
        </section>
      )}
      <Trouble error={add.error ?? known.error} />
    </div>
  );
}
