import { useQuery } from '@tanstack/react-query';
import { get, type Schemas } from '../api/client';

/** The processes of the installation, and what has happened to them. */
export const useParts = () => useQuery({ queryKey: ['parts'], queryFn: () => get<Schemas['SupervisedOut'][]>('/parts'), refetchInterval: 20_000 });
