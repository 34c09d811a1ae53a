import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { get, post, type Schemas } from '../api/client';

export type Storage = Schemas['StorageOut'];
export type Removal = Schemas['RemovalOut'];

/** How much room everything of a production has, and what was removed from it. */
export const useStorage = (production: number) => useQuery({ queryKey: ['storage', production], queryFn: () => get<Storage>(`/productions/${production}/storage`), staleTime: 0 });

/** Productions that were removed from this installation. */
export const useRemovedProductions = () => useQuery({ queryKey: ['removals'], queryFn: () => get<Removal[]>('/removals'), staleTime: 0 });

/** Removing, bringing back, deleting for good. */
export function useRemovals() {
  const client = useQueryClient();
  const onSettled = () => {
    for (const key of ['storage', 'removals', 'board', 'users', 'me']) void client.invalidateQueries({ queryKey: [key] });
  };
  return {
    remove: useMutation({ mutationFn: (body: Schemas['RemovalIn']) => post<Removal>('/removals', body), onSettled }),
    bringBack: useMutation({ mutationFn: (id: number) => post<Removal>(`/removals/${id}/bring-back`), onSettled }),
    deleteNow: useMutation({ mutationFn: (id: number) => post<Removal>(`/removals/${id}/delete-now`), onSettled }),
  };
}
