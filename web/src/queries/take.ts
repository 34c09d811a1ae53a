import { useQueries, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useMemo, useRef, useState } from 'react';
import { get, type RunOut, type StreamOut, type TakeOut } from '../api/client';
import { loadSamples, loadThinned, splitMotion, type Levels, type Track } from '../api/tracks';
import { atWork } from '../parts/verdict';
import type { Transport } from '../time/transport';
import type { Body, BodyLevels, PropView } from '../view/pose';
import type { CharacterMotion } from '../view/skin';
import { useAsking } from './push';

/** One take; while passes are at work their progress is fetched, and the take anew when they finish. */
export function useTake(id: number) {
  const client = useQueryClient();
  const take = useQuery({ queryKey: ['take', id], queryFn: () => get<TakeOut>(`/takes/${id}/bench`) });
  const working = take.data?.take.runs.some(atWork) ?? false;
  const runs = useQuery({
    queryKey: ['runs', id],
    queryFn: () => get<RunOut[]>(`/takes/${id}/runs`),
    enabled: working,
    refetchInterval: useAsking(600),
  });
  const live = working && runs.data ? runs.data : take.data?.take.runs;
  // every answer that says all passes have ended counts, until the take says so too: another may have begun in between
  const ended = working && runs.data && !runs.data.some(atWork) ? runs.dataUpdatedAt : 0;
  const done = runs.data?.filter((r) => r.state === 'done').length;
  const news = ended || done ? `${id} ${ended} ${done}` : '';
  const fetchedAfter = useRef('');
  useEffect(() => {
    // one that is under way is waited for: where it takes longer than the next answer, it would be begun anew for ever
    if (!news || news === fetchedAfter.current || take.isFetching) return;
    fetchedAfter.current = news;
    void client.invalidateQueries({ queryKey: ['take', id] });
  }, [news, take.isFetching, client, id]);
  return { take, runs: live ?? [], working };
}

export type FailedTrack = { name: string; message: string; retry: () => void };

/** A stretch of the take, seconds. */
export type Stretch = { from: number; to: number };

const MOST_SAMPLES = 12_000; // of a stream are loaded whole; of a longer one, every n-th, and every sample only near by
const MOST_PEAKS = 60_000; // of sound
const MOST_NEAR_S = 90;

/** By how much a stream is thinned as a whole. */
export const stepOf = (stream: Pick<StreamOut, 'samples' | 'kind'>): number =>
  stream.kind === 'audio' ? Math.max(48, Math.ceil(stream.samples / MOST_PEAKS)) : Math.max(1, Math.ceil(stream.samples / MOST_SAMPLES));

/** The samples [first, last) of a stream that are wanted around a stretch, in whole pieces, or null where the whole shows as much. */
export function nearBy(stream: StreamOut, stretch: Stretch | null): [number, number] | null {
  if (!stretch || stepOf(stream) === 1 || stream.per_piece === 0 || stretch.to - stretch.from > MOST_NEAR_S) return null;
  const piece = (time: number) => ((time - stream.start_s) * stream.rate_hz) / stream.per_piece;
  const first = Math.max(0, Math.floor(piece(stretch.from))) * stream.per_piece;
  const last = Math.min(stream.samples, Math.ceil(piece(stretch.to)) * stream.per_piece);
  return last > first ? [first, last] : null;
}

/** Samples of a stream never change, but a line-up tells anew when they were. */
export const keyOf = (what: string, { id, start_s, rate_hz }: Pick<StreamOut, 'id' | 'start_s' | 'rate_hz'>) => [what, id, start_s, rate_hz];

/** Streams in their levels of detail, in the order given, undefined while they load; and those that could not be loaded. */
export function useLevels(streams: StreamOut[], stretch: Stretch | null): { levels: (Levels | undefined)[]; failed: FailedTrack[] } {
  const wholes = useQueries({
    queries: streams.map((stream) => {
      const step = stepOf(stream);
      return {
        queryKey: keyOf('whole', stream),
        queryFn: () => (step === 1 ? loadSamples(stream) : loadThinned(stream, step)),
        enabled: stream.samples > 0,
        staleTime: Infinity, // samples never change
      };
    }),
  });
  const nears = useQueries({
    queries: streams.map((stream) => {
      const range = nearBy(stream, stretch);
      return {
        queryKey: [...keyOf('near', stream), range],
        queryFn: () => loadSamples(stream, range![0], range![1]),
        enabled: range !== null,
        staleTime: Infinity,
        gcTime: 10_000, // its pieces are kept anyway
        placeholderData: (before: Track | undefined) => before,
      };
    }),
  });
  // while a newer run's track loads, that of the run before is shown
  const shown = useRef(new Map<string, Levels>());
  const now = streams.map((stream, i) => {
    const key = `${stream.name} ${stream.performer} ${stream.prop} ${stream.character}`;
    const whole = wholes[i].data;
    const before = shown.current.get(key);
    if (!whole) return before;
    const near = nearBy(stream, stretch) ? (nears[i].data ?? null) : null;
    const levels = before?.whole === whole && before.near === near ? before : { whole, near };
    shown.current.set(key, levels);
    return levels;
  });
  const failed = wholes.flatMap((r, i) => (r.isError ? [{ name: streams[i].name, message: r.error.message, retry: () => void r.refetch() }] : []));
  return { levels: useSame(now), failed };
}

/** The same array as before as long as its elements are. */
function useSame<T>(now: T[]): T[] {
  const kept = useRef(now);
  if (kept.current.length !== now.length || kept.current.some((value, i) => value !== now[i])) kept.current = now;
  return kept.current;
}

/** The newest stream of a name about somebody; performer "" is for the room's, and for takes of one performer. */
export function streamOf(streams: StreamOut[], name: string, performer: string): StreamOut | undefined {
  const found = streams.filter((s) => s.name === name && s.samples > 0);
  return found.filter((s) => s.performer === performer).at(-1) ?? found.filter((s) => s.performer === '').at(-1);
}

/** Streams by name, of one performer and of the room. */
export function useTracks(streams: StreamOut[], names: string[], performer: string, stretch: Stretch | null) {
  const found = useMemo(() => names.flatMap((name) => streamOf(streams, name, performer) ?? []), [streams, names, performer]);
  const { levels, failed } = useLevels(found, stretch);
  const tracks = useMemo(() => Object.fromEntries(found.map((s, i) => [s.name, levels[i]])) as Partial<Record<string, Levels>>, [found, levels]);
  return { tracks, failed };
}

function bodyOf(stream: StreamOut, rotation: Track, root: Track): Body {
  const { bones = [], parents = [], offsets_m = [], worn = [] } = stream.details;
  return {
    bones, parents, offsets: new Float32Array(offsets_m.flat()), worn, rotation: rotation.values, root: root.values,
    frames: Math.min(root.samples, rotation.samples), rate: rotation.rate, start: rotation.start,
  };
}

/** Everybody's motion as the view wants it: solved, or as a file that was dropped on the slate brought it. */
export function useBodies(streams: StreamOut[], stretch: Stretch | null): BodyLevels[] {
  const found = useMemo(() => {
    const solved = streams.filter((s) => s.name === 'body rotation' && s.samples > 0);
    const performers = [...new Set(solved.map((s) => s.performer))];
    const pairs = performers.flatMap((performer) => {
      const [rotation, root, face] = ['body rotation', 'body root', 'face shapes'].map((name) => streamOf(streams, name, performer));
      return rotation && root ? [{ performer, parts: [rotation, root], face }] : [];
    });
    const files = streams.filter((s) => s.name === 'body file' && s.samples > 0 && !performers.includes(s.performer));
    return [...pairs, ...files.map((file) => ({ performer: file.performer, parts: [file], face: undefined }))];
  }, [streams]);
  const parts = useMemo(() => found.flatMap((f) => [...f.parts, ...(f.face ? [f.face] : [])]), [found]);
  const { levels } = useLevels(parts, stretch);
  return useMemo(() => {
    const made: BodyLevels[] = [];
    let at = 0;
    for (const { performer, parts: own, face } of found) {
      const [first, second, shown] = [levels[at], levels[at + own.length - 1], face && levels[at + own.length]];
      at += own.length + (face ? 1 : 0);
      if (!first || !second) continue;
      const level = (rotation: Track, root: Track) => {
        if (own.length === 2) return bodyOf(own[0], rotation, root);
        const { r, p } = splitMotion(rotation);
        return bodyOf(own[0], r, p);
      };
      // two tracks of one run: a new one is shown when both have come
      if (own.length === 2 && first.whole.samples !== second.whole.samples) continue;
      const near = first.near && second.near;
      made.push({ performer, whole: level(first.whole, second.whole), near: near ? level(first.near!, second.near!) : null, face: face && shown ? { names: face.details.names ?? [], levels: shown } : null });
    }
    return made;
  }, [found, levels]);
}

/** The motion of everybody on the characters they play in a take. */
export function useCharacterMotions(streams: StreamOut[], stretch: Stretch | null): CharacterMotion[] {
  const found = useMemo(
    () =>
      streams
        .filter((s) => s.name === 'character rotation' && s.samples > 0)
        .flatMap((rotation) => {
          const own = (name: string) => streams.find((s) => s.name === name && s.character === rotation.character && s.performer === rotation.performer);
          const root = own('character root');
          return root ? [{ rotation, root, shapes: own('character shapes') }] : [];
        }),
    [streams],
  );
  const parts = useMemo(() => found.flatMap((f) => [f.rotation, f.root, ...(f.shapes ? [f.shapes] : [])]), [found]);
  const { levels } = useLevels(parts, stretch);
  return useMemo(() => {
    let at = 0;
    return found.flatMap(({ rotation, shapes }) => {
      const [turned, moved, face] = [levels[at], levels[at + 1], shapes ? levels[at + 2] : undefined];
      at += shapes ? 3 : 2;
      if (!turned || !moved || turned.whole.samples !== moved.whole.samples) return []; // two tracks of one run: shown when both have come
      const near = turned.near && moved.near ? bodyOf(rotation, turned.near, moved.near) : null;
      return [{
        name: rotation.character,
        levels: { performer: `${rotation.performer} as ${rotation.character}`, whole: bodyOf(rotation, turned.whole, moved.whole), near },
        shapes: shapes && face ? { names: shapes.details.names ?? [], track: face.near ?? face.whole } : null,
      }];
    });
  }, [found, levels]);
}

/** Every solved prop with its pose track: position and rotation; or every prop with a character, who may stand aside. */
export function useProps(streams: StreamOut[], stretch: Stretch | null, name = 'prop pose', aside = 0): PropView[] {
  const found = useMemo(() => streams.filter((s) => s.name === name && s.samples > 0), [streams, name]);
  const { levels } = useLevels(found, stretch);
  return useMemo(
    () =>
      found.flatMap((stream, i) => {
        const pose = levels[i];
        return pose ? [{ name: stream.prop, offsets: stream.details.offsets_m ?? [], pose, aside }] : [];
      }),
    [found, levels, aside],
  );
}

const LOOKS_AHEAD_S = 20;
const LOOKS_BACK_S = 5;

/** The stretch around the moment at which the transport is, moving on in steps. */
export function useAround(transport: Transport): Stretch {
  const [step, setStep] = useState(() => Math.floor(transport.time / LOOKS_BACK_S));
  useEffect(() => transport.subscribe((t) => setStep(Math.floor(t / LOOKS_BACK_S))), [transport]);
  return useMemo(() => ({ from: (step - 1) * LOOKS_BACK_S, to: step * LOOKS_BACK_S + LOOKS_AHEAD_S }), [step]);
}
