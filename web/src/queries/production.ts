import { useQuery } from '@tanstack/react-query';
import { get, type Board, type PerformerOut, type Schemas, type SlateRow } from '../api/client';
import { verdict } from '../parts/verdict';
import { useAsking, usePushed } from './push';

/** The board of a production: its days, and slates, takes and what their passes say of one of them, the last one where nothing is said. */
export function useBoard(production: number, of: { day?: number | null; slate?: number | null } = {}) {
  const pushed = usePushed();
  const query = of.slate ? `?slate=${of.slate}` : of.day ? `?day=${of.day}` : '';
  return useQuery({
    queryKey: ['board', production, query],
    queryFn: () => get<Board>(`/productions/${production}/board${query}`),
    placeholderData: (before, earlier) => (earlier?.queryKey[1] === production ? before : undefined),
    refetchInterval: (now) => (pushed ? false : now.state.data?.day?.slates.some((s) => s.takes.some((t) => verdict(t.runs).working)) ? 1000 : 8000),
  });
}

/** One slate with its takes, of whichever day it is. */
export function useSlate(production: number, slate: number | null) {
  return useQuery({ queryKey: ['board', production, 'slate', slate], queryFn: () => get<SlateRow>(`/slates/${slate}`), enabled: slate !== null, refetchInterval: useAsking(4000) });
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
