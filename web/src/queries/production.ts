import { useQuery } from '@tanstack/react-query';
import { get, type Board, type PerformerOut, type Schemas } from '../api/client';
import { verdict } from '../parts/verdict';
import { useAsking, usePushed } from './push';

/** The board of a production: days, slates, takes and what their passes say. */
export function useBoard(production: number) {
  const pushed = usePushed();
  return useQuery({
    queryKey: ['board', production],
    queryFn: () => get<Board>(`/productions/${production}/board`),
    refetchInterval: (query) =>
      pushed ? false : query.state.data?.days.some((d) => d.slates.some((s) => s.takes.some((t) => verdict(t.runs).working))) ? 1000 : 8000,
  });
}

/** The performers of a production with their calibrations. */
export function useCast(production: number) {
  return useQuery({ queryKey: ['cast', production], queryFn: () => get<PerformerOut[]>(`/productions/${production}/cast`), refetchInterval: useAsking(4000) });
}

/** All devices there are, in the order of their lanes; the same until Otrevo itself changes. */
export function useDevices() {
  return useQuery({ queryKey: ['devices'], queryFn: () => get<Schemas['DeviceOut'][]>('/devices'), staleTime: Infinity });
}

/** What may be measured on a performer; the same until Otrevo itself changes. */
export function useMeasures() {
  return useQuery({ queryKey: ['measures'], queryFn: () => get<Schemas['MeasureOut'][]>('/measures'), staleTime: Infinity });
}

/** What packages can hold and what can be dropped on a slate; the same until Otrevo itself changes. */
export function useFormats() {
  return useQuery({ queryKey: ['formats'], queryFn: () => get<Schemas['FormatsOut']>('/formats'), staleTime: Infinity });
}
