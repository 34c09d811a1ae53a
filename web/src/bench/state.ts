import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useCallback, useEffect, useMemo, useRef, useState } from 'react';
import { useSearchParams } from 'react-router';
import { patch, post, put, type CharacterOut, type RunOut, type Schemas, type SnagOut, type TakeOut } from '../api/client';
import type { Proposal, Range } from '../lanes/draw';
import { useCharacters } from '../queries/characters';
import { useDevices } from '../queries/production';
import { streamOf, useTracks } from '../queries/take';
import { formatOf, labelAt } from '../time/timecode';
import { Transport } from '../time/transport';
import { usePatched, type Fill } from './fills';
import type { Reach } from './lanes/contract';
import type { Setting, Settings } from './passes';
import { grouped, proposalBy, sameKind } from './snags';

const COMPUTED = ['mended', 'labelled', 'rigid bodies', 'residual', 'joint uncertainty'];
const NO_CHARACTERS: CharacterOut[] = [];
const NO_DEVICES: Schemas['DeviceOut'][] = [];

/** Values in the address, and a way to change some of them. */
function useAddress() {
  const [query, setQuery] = useSearchParams();
  const put = useCallback(
    (values: Record<string, string | null>) =>
      setQuery(
        () => {
          // what the address says now, not when this was last drawn: two changes in a row must both stay
          const next = new URLSearchParams(window.location.search);
          for (const [k, v] of Object.entries(values))
            if (v === null) next.delete(k);
            else next.set(k, v);
          return next;
        },
        { replace: true },
      ),
    [setQuery],
  );
  return { query, put };
}

/** The transport of a take; the address keeps the moment, written when it comes to rest. */
function useTransport(duration: number, frame: number, begin: number, put: (values: Record<string, string | null>) => void): Transport {
  const [transport] = useState(() => {
    const t = new Transport(duration, frame);
    t.time = Math.min(begin, duration);
    return t;
  });
  useEffect(() => {
    transport.duration = duration;
  }, [transport, duration]);
  useEffect(() => {
    let timer = 0;
    const leave = transport.subscribe((t) => {
      window.clearTimeout(timer);
      if (transport.speed === 0) timer = window.setTimeout(() => put({ t: t.toFixed(3) }), 300);
    });
    return () => {
      window.clearTimeout(timer);
      leave();
    };
  }, [transport, put]);
  return transport;
}

/** What can be changed in a take, each with what came of it. */
function useChanges(id: number, version: number) {
  const client = useQueryClient();
  const refresh = () => client.invalidateQueries({ queryKey: ['take', id] });
  const change = useMutation({ mutationFn: (body: { in_s?: number; out_s?: number }) => patch(`/takes/${id}`, { ...body, version }), onSettled: refresh });
  const again = useMutation({
    mutationFn: ({ name, parameters, character, basedOn }: { name: string; parameters?: Settings; character?: number; basedOn?: number }) =>
      post(`/takes/${id}/passes/${name.replaceAll(' ', '-')}`, { parameters: parameters ?? {}, character_id: character ?? null, based_on: basedOn ?? null }),
    onSettled: refresh,
  });
  const stop = useMutation({ mutationFn: (run: RunOut) => post(`/runs/${run.id}/cancel`), onSettled: refresh });
  const casting = useMutation({
    mutationFn: (body: { performer_id: number; before: number[]; character_ids: number[] | null }) => put(`/takes/${id}/characters`, body),
    onSettled: refresh,
  });
  const undo = useMutation({ mutationFn: (redo: boolean) => post<{ words: string | null }>(`/takes/${id}/undo?redo=${redo}`), onSettled: refresh });
  return { change, again, stop, casting, undo, refresh };
}

/** The take as it is once snags are mended: as the server will say it, those that are mended last. */
const mended = (data: TakeOut, accepted: SnagOut[]): TakeOut => {
  const isIn = (s: SnagOut) => accepted.some((a) => a.kind === s.kind && a.subject === s.subject && a.start_s === s.start_s && a.performer === s.performer);
  const snags = data.snags.map((s) => (isIn(s) ? { ...s, mended: true } : s));
  return { ...data, snags: snags.sort((a, b) => Number(a.mended) - Number(b.mended)) };
};

/** Everything that the panels of the Bench show and do. */
export type BenchState = ReturnType<typeof useBench>;

export function useBench(data: TakeOut, runs: RunOut[], working: boolean) {
  const client = useQueryClient();
  const take = data.take;
  const id = take.id;
  const { query, put } = useAddress();
  const format = useMemo(() => formatOf(data.timecode_rate, data.drop_frame), [data.timecode_rate, data.drop_frame]);
  const labelOf = useCallback((s: number) => labelAt(take.first_timecode, s, format), [take.first_timecode, format]);
  const duration = Math.max(take.duration_s, 0.1);
  const transport = useTransport(duration, 1 / format.rate, Number(query.get('t')) || take.in_s, put);

  const performers = useMemo(() => data.appearances.map((a) => a.performer), [data.appearances]);
  const asked = query.get('who') ?? '';
  const who = performers.includes(asked) ? asked : (performers[0] ?? '');
  const all = useCharacters(data.production_id).data ?? NO_CHARACTERS;
  const characters = useMemo(() => all.filter((c) => data.appearances.some((a) => a.character_ids.includes(c.id))), [all, data.appearances]);
  const played = useMemo(
    () => data.appearances.flatMap((a) => a.character_ids.flatMap((cid) => {
      const found = all.find((c) => c.id === cid);
      return found ? [{ id: cid, name: found.name, performer: a.performer }] : [];
    })),
    [all, data.appearances],
  );
  const whom = query.get('see') ?? 'performer';
  const [wanted, setWanted] = useState<{ run: number; parameters: Settings } | null>(null); // seen at once; the pass follows
  const [range, setRange] = useState<Range>({ from: 0, to: duration });
  const showAll = useCallback(() => setRange({ from: 0, to: duration }), [duration]);
  useEffect(showAll, [showAll]);
  const devices = useDevices().data ?? NO_DEVICES;
  const drawn = useMemo(() => [...COMPUTED, ...devices.filter((d) => d.lane).map((d) => d.id)], [devices]);
  const { tracks: loaded, failed: notLoaded } = useTracks(data.streams, drawn, who, range);
  const named = streamOf(data.streams, 'mended', who) ?? streamOf(data.streams, 'labelled', who) ?? streamOf(data.streams, 'rigid bodies', who);
  const names = useMemo(() => named?.details.names ?? [], [named]);

  // fills that were accepted are seen at once; they are forgotten when the solve with them is there
  const [filled, setFilled] = useState<{ stream: number | undefined; fills: Fill[] }>({ stream: undefined, fills: [] });
  const fills = useMemo(() => (filled.stream === named?.id ? filled.fills : []), [filled, named?.id]);
  const markers = usePatched(loaded.mended, fills) ?? loaded.labelled;
  const tracks = useMemo(() => ({ ...loaded, mended: loaded.mended && markers }), [loaded, markers]);

  const groups = useMemo(() => grouped(data.snags), [data.snags]);
  const snag = Number(query.get('snag') ?? -1);
  const member = Number(query.get('part') ?? 0);
  const here = groups[snag]?.snags[member] ?? groups[snag]?.snags[0];
  const [method, setMethod] = useState<string | null>(null);
  const asMarker = query.get('marker') ? names.indexOf(query.get('marker')!) : -1;
  const marker = asMarker < 0 ? null : asMarker;
  const [open, setOpen] = useState(false);
  const [keysShown, showKeys] = useState(false);
  const { change, again, stop, casting, undo, refresh } = useChanges(id, take.version);
  const reach = useMemo((): Reach | null => {
    const on = played.find((p) => whom.endsWith(` ${p.name}`));
    const pass = data.passes.find((p) => p.about === 'character');
    const run = on && runs.find((r) => r.name === pass?.name && r.character_id === on.id && r.performer === on.performer);
    if (!on || !pass || !run) return null;
    const parameters = (wanted?.run === run.id ? wanted.parameters : run.parameters) as Settings;
    return {
      name: on.name, busy: working,
      limbs: pass.parameters.filter((p) => p.over_time).map((p) => ({ id: p.name, words: p.words, value: (parameters[p.name] as Setting | undefined) ?? p.default })),
      onChange: (name, points) => {
        const next = { ...parameters, [name]: points.length === 1 ? points[0][1] : points };
        setWanted({ run: run.id, parameters: next });
        again.mutate({ name: pass.name, parameters: next, character: on.id });
      },
    };
  }, [played, whom, data.passes, runs, wanted, working, again]);

  const proposed = here && !here.mended ? proposalBy(here, method) : null;
  const preview = useQuery({
    queryKey: ['preview', id, here?.performer, proposed, named?.id],
    queryFn: () => post<Schemas['PreviewOut']>(`/takes/${id}/mends/preview`, { document: proposed, performer: here!.performer }),
    enabled: proposed !== null,
    staleTime: Infinity,
  }).data;
  const proposal = useMemo((): Proposal | null => {
    if (!preview || !proposed || !named) return null;
    const changed = preview.after.map((p, i) => (p && !preview.before[i] ? p : proposed.kind === 'fill' ? null : p));
    return { first: preview.first, rate: named.rate_hz, start: named.start_s, path: changed as ([number, number, number] | null)[] };
  }, [preview, proposed, named]);

  const advance = useRef(false);
  const mend = useMutation({
    mutationFn: (snags: SnagOut[]) => post<TakeOut>(`/takes/${id}/mends`, snags.map((s) => ({ document: proposalBy(s, method), words: s.text, performer: s.performer }))),
    onMutate: async (snags: SnagOut[]) => {
      await client.cancelQueries({ queryKey: ['take', id] });
      advance.current = true;
      if (snags.length === 1 && snags[0] === here && proposal && marker !== null)
        setFilled({ stream: named?.id, fills: [...fills, { ...proposal, marker }] });
      client.setQueryData<TakeOut>(['take', id], (now) => now && mended(now, snags)); // seen at once; the solve follows
    },
    onSuccess: (answer) => client.setQueryData(['take', id], answer),
    onError: () => {
      setFilled({ stream: undefined, fills: [] });
      void refresh();
    },
  });
  const accept = (snags: SnagOut[]) => mend.mutate(snags);

  const goTo = useCallback(
    (index: number, part = 0) => {
      const s = groups[index]?.snags[part];
      if (!s) return;
      setMethod(null);
      put({ snag: String(index), part: part ? String(part) : null, marker: s.proposal || names.includes(s.subject) ? s.subject : null, ...(s.performer && s.performer !== who ? { who: s.performer } : {}), ...(s.character && !whom.endsWith(s.character) ? { see: `beside ${s.character}` } : {}) });
      transport.stop();
      transport.seek(Math.min((s.start_s + s.end_s) / 2, duration));
      const length = s.end_s - s.start_s;
      if (length < duration * 0.9) {
        const span = Math.min(duration, Math.max(3, length * 4));
        const from = Math.min(Math.max(0, (s.start_s + s.end_s) / 2 - span / 2), duration - span);
        setRange({ from, to: from + span });
      }
    },
    [groups, names, transport, duration, put, who, whom],
  );

  // what was accepted leaves its place in the list: look at what stands there now, the worst that is left
  const leftOver = data.snags.filter((s) => !s.mended).length;
  const before = useRef(leftOver);
  useEffect(() => {
    const fewer = leftOver < before.current;
    before.current = leftOver;
    if (!advance.current || !fewer) return;
    advance.current = false;
    const left = groups.filter((g) => !g.snags[0].mended).length;
    if (left > 0) goTo(Math.min(Math.max(snag, 0), left - 1));
  }, [leftOver, groups, goTo, snag]);

  const pickMarker = useCallback((m: number | null) => put({ marker: m === null ? null : (names[m] ?? null) }), [put, names]);
  const notes = useMemo(() => data.streams.flatMap((s) => {
    const { file, notes: told } = s.details;
    return told?.length ? [`${file || s.name}: ${told.join('; ')}`] : [];
  }), [data.streams]);
  const at = () => Number(transport.time.toFixed(4));
  return {
    data, runs, working, transport, duration, labelOf, range, setRange, showAll, performers, who, all, characters, played, whom, reach, see: (what: string) => put({ see: what === 'performer' ? null : what }), setWho: (name: string) => put({ who: name, marker: null }),
    devices, tracks, notLoaded, names, fills, marker, pickMarker, groups, snag, member, here, method, setMethod, proposal, goTo, accept, notes,
    acceptHere: (all: boolean) => {
      if (here?.proposal && !here.mended) accept(all ? data.snags.filter((o) => !o.mended && sameKind(o, here)) : [here]);
    },
    open, toggleOpen: () => setOpen(!open), keysShown, showKeys,
    pickRow: (by: number) => names.length && pickMarker(Math.min(Math.max((marker ?? -1) + by, 0), names.length - 1)),
    otherMethod: () => here?.proposal && setMethod((method ?? here.proposal.method) === 'curve' ? 'body' : 'curve'),
    setIn: () => change.mutate({ in_s: at() }), setOut: () => change.mutate({ out_s: at() }),
    undo: (redo: boolean) => undo.mutate(redo), runPass: (name: string, parameters?: Settings, character?: number, basedOn?: number) => again.mutate({ name, parameters, character, basedOn }),
    cast: casting.mutate, cancel: (run: RunOut) => stop.mutate(run),
    said: undo.data ? (undo.data.words ? `${undo.variables ? 'redone' : 'undone'}: ${undo.data.words}` : 'nothing left to take back') : '',
    errors: [change, mend, again, casting, undo, stop].flatMap((m) => (m.error ? [m.error.message] : [])),
  };
}
