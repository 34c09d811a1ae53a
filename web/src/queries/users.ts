import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { get, patch, post, put, type Schemas } from '../api/client';

export type Users = Schemas['UsersOut'];
export type Invited = Schemas['Invited'];

export const useUsers = () => useQuery({ queryKey: ['users'], queryFn: () => get<Users>('/users') });

export const useAudit = (search: string) =>
  useQuery({ queryKey: ['audit', search], queryFn: () => get<Schemas['EntryOut'][]>(`/audit?search=${encodeURIComponent(search)}`), staleTime: 0, placeholderData: (before) => before });

/** What an administrator can do to users. */
export function useUserDeeds() {
  const client = useQueryClient();
  const onSettled = () => {
    void client.invalidateQueries({ queryKey: ['users'] });
    void client.invalidateQueries({ queryKey: ['audit'] });
  };
  return {
    add: useMutation({ mutationFn: (body: Schemas['UserIn']) => post<Invited>('/users', body), onSettled }),
    invite: useMutation({ mutationFn: (id: number) => post<Invited>(`/users/${id}/invite`), onSettled }),
    change: useMutation({ mutationFn: ({ id, ...body }: { id: number; active?: boolean; administrator?: boolean }) => patch(`/users/${id}`, body), onSettled }),
    role: useMutation({ mutationFn: ({ id, ...body }: { id: number; production_id: number; role: string | null }) => put(`/users/${id}/roles`, body), onSettled }),
    signOut: useMutation({ mutationFn: (id: number) => post(`/users/${id}/sign-out`), onSettled }),
  };
}
