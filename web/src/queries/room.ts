import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useMemo } from 'react';
import { get, getBytes, post, put, type Schemas, type TakeOut } from '../api/client';
import { decode } from '../api/tracks';
import { atWork } from '../parts/verdict';
import { useAsking, usePushed } from './push';
import { cameraOf, type Blind, type Camera } from '../optics/lens';

export type RoomOut = Schemas['RoomOut'];
export type CalibrationOut = Schemas['StageCalibrationOut'];
export type StepRun = Schemas['StageRunOut'];
export type TrustRow = Schemas['TrustRow'];

/** The room and everything that can be done to it. */
export function useRoom(production: number) {
  const client = useQueryClient();
  const pushed = usePushed();
  const room = useQuery({
    queryKey: ['stage', production],
    queryFn: () => get<RoomOut>(`/productions/${production}/stage`),
    refetchInterval: (q) => (pushed ? false : q.state.data?.runs.some(atWork) || q.state.data?.takes.some((t) => t.busy) ? 700 : 8000),
  });
  const refresh = () => void client.invalidateQueries({ queryKey: ['stage', production] });
  const base = `/productions/${production}/stage`;
  return {
    room,
    record: useMutation({ mutationFn: (body: { kind: string; wand?: string | object }) => post(`${base}/record`, body), onSettled: refresh }),
    stop: useMutation({ mutationFn: (keep: boolean) => post<Schemas['RecordingOut'] | null>(`${base}/stop`, { keep }), onSettled: refresh }),
    step: useMutation({ mutationFn: (body: { name: string; parameters?: object }) => post(`${base}/steps`, body), onSettled: refresh }),
    cancel: useMutation({ mutationFn: (id: number) => post(`/stage-runs/${id}/cancel`), onSettled: refresh }),
    blinds: useMutation({
      mutationKey: ['blinds'],
      scope: { id: `blinds ${production}` }, // one after the other: quick keys build on one another
      onMutate: ({ rows }: { rows: Blind[]; words: string }) => {
        void client.cancelQueries({ queryKey: ['stage', production] }); // an answer on its way knows nothing of this
        client.setQueryData<RoomOut>(['stage', production], (now) => now && { ...now, blinds: rows });
      },
      mutationFn: (body: { rows: Blind[]; words: string }) =>
        put<RoomOut>(`${base}/blinds`, { ...body, based_on: client.getQueryData<RoomOut>(['stage', production])?.blinds_version }),
      onSuccess: (data) => {
        const more = client.isMutating({ mutationKey: ['blinds'] }) > 1; // drawn since, and not sent yet
        client.setQueryData<RoomOut>(['stage', production], (now) => (more && now ? { ...data, blinds: now.blinds } : data));
      },
      onError: refresh,
    }),
    undo: useMutation({ mutationFn: (redo: boolean) => post(`${base}/blinds/undo?redo=${redo}`), onSettled: refresh }),
    load: useMutation({ mutationFn: (form: FormData) => post(`${base}/files`, form), onSettled: refresh }),
    adjust: useMutation({
      mutationFn: ({ id, ...body }: { id: number; quarter_turns?: number; raise_mm?: number }) => post(`/stage-calibrations/${id}/adjust`, body),
      onSettled: refresh,
    }),
    rebuild: useMutation({ mutationFn: (takes: number[]) => post(`${base}/rebuild`, { takes }), onSettled: refresh }),
    resize: useMutation({
      mutationFn: (cameras: number) => put<RoomOut>(`${base}/size`, { cameras }),
      onSuccess: (data) => client.setQueryData(['stage', production], data),
    }),
    knock: useMutation({ mutationFn: (camera: string) => post<{ words: string }>(`${base}/knock`, { camera }), onSettled: refresh }),
  };
}

export type RoomDeeds = ReturnType<typeof useRoom>;

export function useCalibration(id: number | undefined) {
  const query = useQuery({
    queryKey: ['stage-calibration', id],
    queryFn: () => get<CalibrationOut>(`/stage-calibrations/${id}`),
    enabled: id !== undefined,
    staleTime: Infinity, // versions are never edited
  });
  const cameras = useMemo<Camera[]>(() => (query.data?.cameras ?? []).map(cameraOf), [query.data]);
  return { calibration: query.data, cameras, error: query.error };
}

export function usePlan(id: number | undefined, height: number) {
  return useQuery({
    queryKey: ['stage-plan', id, height],
    queryFn: () => get<Schemas['PlanOut']>(`/stage-calibrations/${id}/plan?height_m=${height}`),
    enabled: id !== undefined,
    staleTime: Infinity,
    placeholderData: (previous) => previous,
  }).data;
}

const PIECE = 240;

/** What a take's cameras saw in one frame, by camera number, and where its points were then. */
export function useTakeFrame(take: number | null, frame: number) {
  const piece = Math.floor(frame / PIECE);
  const bench = useQuery({ queryKey: ['take', take], queryFn: () => get<TakeOut>(`/takes/${take}/bench`), enabled: take !== null });
  const streams = bench.data?.streams ?? [];
  const seen = streams.find((s) => s.name === 'cameras');
  const points = streams.filter((s) => s.name === 'labelled').at(-1) ?? streams.filter((s) => s.name === 'optical').at(-1);
  const rows = useQuery({
    queryKey: ['frames', take, piece],
    queryFn: async () => decode(await getBytes(`/takes/${take}/frames?first=${piece * PIECE}&last=${(piece + 1) * PIECE}`), 5),
    enabled: seen !== undefined,
    staleTime: Infinity,
    placeholderData: (previous) => previous,
  }).data;
  const width = points ? points.shape.reduce((a, b) => a * b, 1) : 0;
  const places = useQuery({
    queryKey: ['places', points?.id, piece],
    queryFn: async () => decode(await getBytes(`/streams/${points!.id}/data?start=${piece * PIECE}&end=${(piece + 1) * PIECE}`), width),
    enabled: points !== undefined,
    staleTime: Infinity,
    placeholderData: (previous) => previous,
  }).data;
  const details = seen?.details;
  return useMemo(() => {
    const byCamera = new Map<string, number[][]>((details?.cameras ?? []).map((c) => [c, []]));
    if (rows && details?.cameras)
      for (let i = 0; i < rows.length; i += 5)
        if (rows[i] === frame) byCamera.get(details.cameras[rows[i + 1]])?.push([rows[i + 2], rows[i + 3], rows[i + 4]]);
    const at: number[][] = [];
    const names: string[] = [];
    const all = points?.details.names;
    const from = (frame - piece * PIECE) * width;
    if (places)
      for (let k = 0; k < width / 3; k += 1) {
        const [x, y, z] = [places[from + 3 * k], places[from + 3 * k + 1], places[from + 3 * k + 2]];
        if (!Number.isFinite(x)) continue;
        at.push([x, y, z]);
        names.push(all?.[k] ?? `point ${k + 1}`);
      }
    return { byCamera, points: at, names, frames: details?.frames ?? 0, rate: seen?.rate ?? '120/1', ready: rows !== undefined };
  }, [rows, places, frame, piece, width, details, points, seen]);
}

/** Every camera's residual over a take, as its newest rebuild measured it. */
export function useTrust(take: number | null) {
  return useQuery({
    queryKey: ['trust', take],
    queryFn: () => get<Schemas['TrustOut'] | null>(`/takes/${take}/trust`),
    enabled: take !== null,
    refetchInterval: useAsking(6000),
  }).data;
}
