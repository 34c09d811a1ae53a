import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { post, type Board, type Schemas } from '../api/client';
import { FormLine, PlainButton, Quiet, TextInput, Trouble, WordButton } from '../parts/controls';
import { Choice, Tick } from '../parts/choices';
import { RATES, rateWords } from '../time/timecode';
import { useCast } from '../queries/production';

const PROPS = ['lantern'];


export function NewSlate({ dayId, production, onDone }: { dayId: number; production: number; onDone: () => void }) {
  const client = useQueryClient();
  const people = useCast(production).data ?? [];
  const [name, setName] = useState('');
  const [title, setTitle] = useState('');
  const [picked, setWho] = useState<number | null>(null);
  const [props, setProps] = useState<string[]>([]);
  const who = picked ?? people[0]?.id;
  const add = useMutation({
    mutationFn: () => post(`/days/${dayId}/slates`, { name, title, performer_id: who, props }),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ['board', production] });
      onDone();
    },
  });
  return (
    <>
      <FormLine
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <TextInput label="Slate" value={name} onChange={setName} autoFocus isRequired maxLength={12} />
        <TextInput label="What happens" value={title} onChange={setTitle} isRequired maxLength={120} />
        <Choice label="Performer" options={people.map((p) => ({ id: p.id, words: p.name }))} value={who ?? null} onChange={setWho} isDisabled={people.length === 0} />
        {PROPS.map((p) => (
          <Tick key={p} isSelected={props.includes(p)} onChange={(on) => setProps(on ? [...props, p] : props.filter((o) => o !== p))}>with the {p}</Tick>
        ))}
        <PlainButton type="submit" isDisabled={add.isPending || who === undefined}>Add slate</PlainButton>
        <WordButton onPress={onDone}>never mind</WordButton>
        {people.length === 0 && <Quiet>Add a performer in Cast first.</Quiet>}
      </FormLine>
      <Trouble error={add.error} />
    </>
  );
}

export function NewDay({ production, onDone }: { production: number; onDone: (number?: number) => void }) {
  const client = useQueryClient();
  const [date, setDate] = useState(() => new Date().toLocaleDateString('sv-SE'));
  const [stage, setStage] = useState('');
  const add = useMutation({
    mutationFn: () => post<Schemas['DayOut']>(`/productions/${production}/days`, { date, stage }),
    onSuccess: async (day) => {
      await client.invalidateQueries({ queryKey: ['board', production] });
      onDone(day.number);
    },
  });
  return (
    <>
      <FormLine
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <TextInput label="Date" type="date" value={date} onChange={setDate} isRequired />
        <TextInput label="Stage" value={stage} onChange={setStage} isRequired maxLength={60} autoFocus />
        <PlainButton type="submit" isDisabled={add.isPending}>Add day</PlainButton>
        <WordButton onPress={() => onDone()}>never mind</WordButton>
      </FormLine>
      <Trouble error={add.error} />
    </>
  );
}

export function NewProduction({ onDone }: { onDone: () => void }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [form, setForm] = useState({ name: '', code: '', timecode_rate: '30000/1001', drop_frame: true, delivery_rate: '30000/1001', naming_pattern: '{production}_{slate}_t{take:02d}_{performer}' });
  const drops = /^(30000|60000)\/1001$/.test(form.timecode_rate);
  const add = useMutation({
    mutationFn: () => post<Board['production']>('/productions', { ...form, drop_frame: form.drop_frame && drops }),
    onSuccess: async (p) => {
      await client.invalidateQueries({ queryKey: ['me'] });
      onDone();
      navigate(`/p/${p.id}/shoot`);
    },
  });
  const rates = (key: 'timecode_rate' | 'delivery_rate', label: string) => (
    <Choice label={label} options={RATES.map((r) => ({ id: r, words: rateWords(r, false) }))} value={form[key]} onChange={(rate) => setForm({ ...form, [key]: rate })} />
  );
  return (
    <>
      <FormLine
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <TextInput label="Production" value={form.name} onChange={(name) => setForm({ ...form, name })} isRequired maxLength={80} autoFocus />
        <TextInput label="Code" value={form.code} onChange={(code) => setForm({ ...form, code })} isRequired maxLength={12} />
        {rates('timecode_rate', 'Timecode')}
        <Tick isDisabled={!drops} isSelected={form.drop_frame && drops} onChange={(drop_frame) => setForm({ ...form, drop_frame })}>drop-frame</Tick>
        {rates('delivery_rate', 'Delivery')}
        <TextInput label="File names" value={form.naming_pattern} onChange={(naming_pattern) => setForm({ ...form, naming_pattern })} isRequired maxLength={120} style={{ flex: '1 1 320px' }} />
        <PlainButton type="submit" isDisabled={add.isPending}>Begin production</PlainButton>
        <WordButton onPress={onDone}>never mind</WordButton>
      </FormLine>
      <Trouble error={add.error} />
    </>
  );
}
