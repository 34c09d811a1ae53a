import { useQueries, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useMemo } from 'react';
import { get, type RunOut, type StreamOut, type TakeOut } from '../api/client';
import { loadTrack, splitMotion, type Track } from '../api/tracks';
import { atWork } from '../parts/verdict';
import type { Body, PropView } from '../view/pose';
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
  useEffect(() => {
    if (ended || done) void client.invalidateQueries({ queryKey: ['take', id] });
  }, [ended, done, client, id]);
  return { take, runs: live ?? [], working };
}

export type FailedTrack = { name: string; message: string; retry: () => void };

/** Streams of a take by name, each thinned by a step; one that could not be loaded is said, with a way to try again. */
export function useTracks<Name extends string>(streams: StreamOut[] | undefined, wanted: Record<Name, number>) {
  const names = Object.keys(wanted) as Name[];
  const results = useQueries({
    queries: names.map((name) => {
      const stream = streams?.filter((s) => s.name === name).at(-1);
      return {
        queryKey: ['track', stream?.id, wanted[name]],
        queryFn: () => loadTrack(stream!, wanted[name]),
        enabled: stream !== undefined && stream.samples > 0,
        staleTime: Infinity, // streams never change
        placeholderData: (previous: Track | undefined) => previous,
      };
    }),
  });
  const loaded = results.map((r) => r.data);
  // eslint-disable-next-line react-hooks/exhaustive-deps
  const tracks = useMemo(() => Object.fromEntries(names.map((name, i) => [name, loaded[i]])) as Record<Name, Track | undefined>, loaded);
  const failed: FailedTrack[] = results.flatMap((r, i) => (r.isError ? [{ name: names[i], message: r.error.message, retry: () => void r.refetch() }] : []));
  return { tracks, failed };
}

type Stored = Pick<StreamOut, 'id' | 'name' | 'rate_hz' | 'start_s' | 'samples' | 'details' | 'shape' | 'prop'>;

/** The body's motion as the view wants it: solved, or as a file that was dropped on the slate brought it. */
export function useBody(streams: Stored[] | undefined): Body | null {
  const solved = streams?.filter((s) => s.name === 'body rotation').at(-1);
  const rotation = solved ?? streams?.find((s) => s.name === 'body file');
  const root = streams?.filter((s) => s.name === 'body root').at(-1);
  const query = useQuery({
    queryKey: ['body', rotation?.id, root?.id],
    queryFn: async () => {
      if (!solved) return splitMotion(await loadTrack(rotation!));
      const [r, p] = await Promise.all([loadTrack(rotation!), loadTrack(root!)]);
      return { r, p };
    },
    enabled: Boolean(solved ? root : rotation),
    staleTime: Infinity,
    placeholderData: (previous) => previous,
  });
  return useMemo(() => {
    if (!query.data || !rotation) return null;
    const d = rotation.details as { bones?: string[]; parents?: number[]; offsets_m?: number[][] };
    return {
      bones: d.bones ?? [],
      parents: d.parents ?? [],
      offsets: new Float32Array((d.offsets_m ?? []).flat()),
      rotation: query.data.r.values,
      root: query.data.p.values,
      frames: query.data.p.samples,
      rate: rotation.rate_hz,
      start: rotation.start_s,
    };
  }, [query.data, rotation]);
}

/** Every solved prop with its pose track: place and turn. */
export function useProps(streams: Stored[] | undefined): PropView[] {
  const found = useMemo(() => streams?.filter((s) => s.name === 'prop pose') ?? [], [streams]);
  const ids = found.map((s) => s.id);
  const tracks = useQuery({
    queryKey: ['props', ids],
    queryFn: () => Promise.all(found.map((s) => loadTrack(s))),
    enabled: found.length > 0,
    staleTime: Infinity,
    placeholderData: (previous) => previous,
  }).data;
  return useMemo(
    () =>
      (tracks ?? []).slice(0, found.length).map((pose, i) => {
        const d = found[i].details as { offsets_m?: number[][] };
        return { name: found[i].prop, offsets: d.offsets_m ?? [], pose };
      }),
    [tracks, found],
  );
}
