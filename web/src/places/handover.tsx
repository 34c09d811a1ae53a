import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Checkbox, CheckboxGroup } from 'react-aria-components';
import { Link, useParams, useSearchParams } from 'react-router';
import styled from 'styled-components';
import { get, post, type Me, type PackageOut } from '../api/client';
import { Empty, Figure, MainButton, PlainButton, Progress, Quiet, TextInput, Trouble, WordButton } from '../parts/controls';
import { Choice, Tick } from '../parts/choices';
import { Frame } from '../parts/frame';
import { verdict } from '../parts/verdict';
import { paper } from '../theme';
import { useCharacters } from '../queries/characters';
import { useBoard, useFormats } from '../queries/production';
import { usePushed } from '../queries/push';
import { everyNth, RATES, rateWords } from '../time/timecode';

const Wrap = styled.div`
  padding: 20px 28px 40px;
  max-width: 1480px;
  margin: 0 auto;
  display: grid;
  grid-template-columns: minmax(330px, 420px) 1fr;
  gap: 36px;
  h1 {
    font-size: 20px;
    margin: 0 0 12px;
  }
`;

const Pickable = styled(Checkbox)`
  display: flex;
  gap: 10px;
  align-items: baseline;
  padding: 4px 0;
  cursor: pointer;
  outline: none;
  > i {
    flex: none;
    width: 14px;
    height: 14px;
    border: 1px solid ${(p) => p.theme.text};
    align-self: center;
    font-style: normal;
    line-height: 12px;
    text-align: center;
  }
  &[data-selected] > i::after {
    content: '✓';
  }
  &[data-focus-visible] > i {
    outline: 2px solid ${(p) => p.theme.selection};
    outline-offset: 2px;
  }
  &[data-disabled] {
    color: ${(p) => p.theme.quiet};
    cursor: default;
  }
`;

const Group = styled(CheckboxGroup)`
  display: grid;
  border-top: 1px solid ${(p) => p.theme.hairline};
  padding: 8px 0;
`;

const Card = styled.article`
  background: ${(p) => p.theme.raised};
  border: 1px solid ${(p) => p.theme.hairline};
  padding: 12px 16px;
  margin-bottom: 12px;
  display: grid;
  gap: 6px;
  > header {
    display: flex;
    gap: 14px;
    align-items: baseline;
    h2 {
      margin: 0;
      font-size: 16px;
      overflow-wrap: anywhere;
    }
    > :last-child {
      margin-left: auto;
      white-space: nowrap;
    }
  }
`;

const EVERY = ['every frame', 'every 2nd frame', 'every 3rd frame', 'every 4th frame'];
const STATES: Record<string, string> = {
  building: 'being built and read back', ready: 'ready, read back without faults', faulty: '✕ cannot be sent', sent: 'sent, no answer yet',
  accepted: '✓ accepted', returned: '↩ sent back',
  cancelled: 'cancelled',
};

export function differences(p: PackageOut): { mm: number; degrees: number } | null {
  const rows = p.manifest.differences ?? [];
  if (!rows.length) return null;
  return { mm: Math.max(...rows.map((r) => r.position_mm ?? 0)), degrees: Math.max(...rows.map((r) => r.rotation_deg ?? 0)) };
}

function Packages({ production, role }: { production: number; role: string }) {
  const client = useQueryClient();
  const pushed = usePushed();
  const packages = useQuery({
    queryKey: ['packages', production],
    queryFn: () => get<PackageOut[]>(`/productions/${production}/packages`),
    refetchInterval: (q) => (pushed ? false : q.state.data?.some((p) => p.state === 'building') ? 700 : 6000),
  });
  const act = useMutation({
    mutationFn: ({ id, what }: { id: number; what: string }) => post(`/packages/${id}/${what}`),
    onSettled: () => client.invalidateQueries({ queryKey: ['packages', production] }),
  });
  const animator = role === 'animator';
  return (
    <section aria-label="Packages">
      <h1>{animator ? 'Sent to you' : 'Packages'}</h1>
      <Trouble error={packages.error ?? act.error} />
      {packages.data?.map((p) => {
        const d = differences(p);
        return (
          <Card key={p.id}>
            <header>
              <h2><Link to={`/p/${production}/handover/${p.id}`}>{p.name}</Link></h2>
              <span aria-live="polite" style={{ color: p.state === 'accepted' || p.state === 'ready' ? paper.good : p.state === 'faulty' || p.state === 'returned' ? paper.wrong : undefined }}>
                {STATES[p.state]}
              </span>
            </header>
            <Quiet>
              {p.takes.map((t) => `${t.slate} take ${t.number}`).join(', ')} · {p.formats.join(', ')} · {rateWords(p.rate, false)} fps
              {p.bytes > 0 && ` · ${(p.bytes / 1e6).toFixed(1)} MB`}
            </Quiet>
            {p.state === 'building' && <Progress value={p.progress} words={`building ${p.name}`} />}
            {d && !animator && <span>Read back: <Figure>{d.mm.toFixed(4)} mm</Figure>, <Figure>{d.degrees.toFixed(5)}°</Figure> <Quiet>(limits 0.1 mm, 0.01°)</Quiet></span>}
            {p.message && (p.state === 'cancelled' ? <Quiet>{p.message}</Quiet> : <Trouble error={p.message} />)}
            {p.answer && <q style={{ color: p.state === 'returned' ? paper.wrong : undefined }}>{p.answer}</q>}
            {!animator && (
              <div style={{ display: 'flex', gap: 10 }}>
                {p.state === 'building' && <PlainButton onPress={() => act.mutate({ id: p.id, what: 'cancel' })}>Cancel</PlainButton>}
                {p.state === 'ready' && <MainButton onPress={() => act.mutate({ id: p.id, what: 'send' })}>Send</MainButton>}
                {p.state === 'sent' && <PlainButton onPress={() => act.mutate({ id: p.id, what: 'take-back' })}>Take back</PlainButton>}
              </div>
            )}
          </Card>
        );
      })}
      {packages.data?.length === 0 && (
        <Empty>
          <h2>{animator ? 'Nothing has been sent to you yet' : 'No packages yet'}</h2>
          <p>{animator ? 'As soon as the technician sends a package it appears here.' : 'Choose solved takes on the left; circled ones are proposed.'}</p>
        </Empty>
      )}
    </section>
  );
}

function NewPackage({ production }: { production: number }) {
  const client = useQueryClient();
  const [query, setQuery] = useSearchParams();
  const board = useBoard(production, { day: Number(query.get('day')) });
  const day = board.data?.day;
  const days = board.data?.days ?? [];
  const takes = (day?.slates ?? []).filter((s) => !s.warm_up).flatMap((s) => s.takes.map((t) => ({ s, t, solved: t.runs.some((r) => (r.name === 'solve' || r.character_id !== null) && r.state === 'done') })));
  const proposed = takes.filter(({ t, solved }) => t.status === 'circled' && solved && !t.packages.includes('accepted')).map(({ t }) => String(t.id));
  const [chosen, setChosen] = useState<string[] | null>(null);
  const known = useFormats().data?.delivered ?? [];
  const [chosenFormats, setFormats] = useState<string[] | null>(null);
  const formats = chosenFormats ?? known.filter((f) => f.usual).map((f) => f.id);
  const characters = useCharacters(production).data ?? [];
  const [without, setWithout] = useState<number[]>([]);
  const [chosenRate, setRate] = useState<string | null>(null);
  const [every, setEvery] = useState(1);
  const rate = chosenRate ?? board.data?.production.delivery_rate ?? null;
  const rates = [...new Set([...(rate ? [rate] : []), ...RATES, '120'])].sort((a, b) => parseFloat(rateWords(a, false)) - parseFloat(rateWords(b, false)));
  const [name, setName] = useState<string | null>(null);
  const picked = chosen ?? proposed;
  const elsewhere = picked.filter((p) => !takes.some(({ t }) => String(t.id) === p)).length;
  const shown = name ?? (board.data ? `${board.data.production.code}-day${day?.number ?? ''}` : '');
  const make = useMutation({
    mutationFn: () => post(`/productions/${production}/packages`, { name: shown, take_ids: picked.map(Number), formats, rate: everyNth(rate!, every),
      character_ids: without.length ? characters.map((c) => c.id).filter((id) => !without.includes(id)) : null }),
    onSuccess: () => setChosen(null),
    onSettled: () => client.invalidateQueries({ queryKey: ['packages', production] }),
  });
  return (
    <section aria-label="New package">
      <h1>New package</h1>
      <Trouble error={board.error} />
      {days.length > 1 && (
        <span role="group" aria-label="Shoot days" style={{ display: 'flex', gap: 10, flexWrap: 'wrap' }}>
          <Quiet>Takes of day</Quiet>
          {days.map((d) => <WordButton key={d.id} $on={d.id === day?.id} aria-pressed={d.id === day?.id} onPress={() => setQuery({ day: String(d.number) })}><Figure>{d.number}</Figure></WordButton>)}
        </span>
      )}
      <Group aria-label="Takes" value={picked} onChange={setChosen}>
        {takes.map(({ s, t, solved }) => (
          <Pickable key={t.id} value={String(t.id)} isDisabled={!solved}>
            <i />
            <strong>{s.name}</strong> take {t.number}
            <Quiet style={{ marginLeft: 'auto' }}>{t.status === 'circled' ? '◯ ' : ''}{solved ? verdict(t.runs).words : 'not solved'}</Quiet>
          </Pickable>
        ))}
        {elsewhere > 0 && <Quiet>and {elsewhere} of other days</Quiet>}
        {board.data && takes.length === 0 && <Quiet>No takes yet; <Link to={`/p/${production}/floor`}>roll one on the Floor</Link>.</Quiet>}
      </Group>
      <Group aria-label="Formats" value={formats} onChange={setFormats}>
        {known.map((f) => (
          <Pickable key={f.id} value={f.id}><i />{f.words}</Pickable>
        ))}
      </Group>
      {characters.length > 0 && (
        <div role="group" aria-label="Characters" style={{ display: 'flex', gap: 18, alignItems: 'center', flexWrap: 'wrap' }}>
          <Quiet>Characters</Quiet>
          {characters.map((c) => (
            <Tick key={c.id} isSelected={!without.includes(c.id)} onChange={(on) => setWithout(on ? without.filter((id) => id !== c.id) : [...without, c.id])}>{c.name}</Tick>
          ))}
        </div>
      )}
      <div style={{ display: 'flex', gap: 14, alignItems: 'end', flexWrap: 'wrap', borderTop: `1px solid ${paper.hairline}`, paddingTop: 12 }}>
        <div style={{ flex: '1 0 100%' }}><TextInput label="Name of the package" value={shown} onChange={setName} maxLength={80} /></div>
        <Choice label="Frames per second" options={rates.map((id) => ({ id, words: rateWords(id, false) }))} value={rate} onChange={setRate} />
        <Choice label="Of these" options={EVERY.map((words, i) => ({ id: i + 1, words }))} value={every} onChange={setEvery} style={{ flex: 1, minWidth: 150 }} />
        <MainButton isDisabled={picked.length === 0 || formats.length === 0 || rate === null || make.isPending} onPress={() => make.mutate()}>
          Package {picked.length} take{picked.length === 1 ? '' : 's'}
        </MainButton>
      </div>
      <p><Quiet>Files are named {board.data?.production.naming_pattern}; each is read back and compared before it can be sent.</Quiet></p>
      <Trouble error={make.error} />
    </section>
  );
}

export function Handover({ me }: { me: Me }) {
  const production = Number(useParams().production);
  const member = me.memberships.find((m) => m.production_id === production);
  const animator = member?.role === 'animator';
  return (
    <Frame theme={paper} me={me} productionId={production} cells={[{ what: 'production', value: member?.production ?? '' }, { what: 'handover', value: animator ? 'your packages' : 'packages' }]}>
      <Wrap style={animator ? { gridTemplateColumns: '1fr', maxWidth: 900 } : undefined}>
        {!animator && <NewPackage production={production} />}
        <Packages production={production} role={member?.role ?? ''} />
      </Wrap>
    </Frame>
  );
}
