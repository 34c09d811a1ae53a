import { useState } from 'react';
import styled from 'styled-components';
import type { Me } from '../api/client';
import { Choice, Tick } from '../parts/choices';
import { Figure, FormLine, PlainButton, Quiet, tableLook, TextInput, Trouble, WordButton } from '../parts/controls';
import { Frame } from '../parts/frame';
import { Removed } from '../parts/removed';
import { useParts } from '../queries/parts';
import { useRemovals, useRemovedProductions } from '../queries/storage';
import { useAudit, useUserDeeds, useUsers, type Invited, type Users } from '../queries/users';
import { paper } from '../theme';
import { NewProduction } from './shoot-forms';

const Page = styled.div`
  padding: 20px 28px 40px;
  max-width: 1240px;
  h2 {
    font-size: 19px;
    margin: 26px 0 10px;
    &:first-child {
      margin-top: 0;
    }
  }
  table {
    ${tableLook}
    td,
    th {
      padding: 7px 14px 7px 0;
      vertical-align: top;
    }
  }
`;

const Deeds = styled.div`
  display: flex;
  gap: 14px;
  justify-content: flex-end;
  white-space: nowrap;
`;

const Link = styled.p`
  border: 1px solid ${(p) => p.theme.quiet};
  padding: 10px 14px;
  margin: 0 0 14px;
  code {
    font-family: ${(p) => p.theme.mono};
    overflow-wrap: anywhere;
    user-select: all;
  }
`;

const NO_ROLE = '';

type User = Users['users'][number];

/** When it was, as people say it here. */
const said = (at: string) => new Date(at).toLocaleString('en-GB', { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit', second: '2-digit' });

function Invitation({ invited, onDone }: { invited: Invited; onDone: () => void }) {
  const link = `${window.location.origin}${invited.path}`;
  return (
    <Link role="status">
      Give this link to {invited.user.name}. It works once, within three days: <code>{link}</code>{' '}
      <WordButton onPress={() => void navigator.clipboard?.writeText(link)}>copy</WordButton>{' '}
      <WordButton onPress={onDone}>done</WordButton>
    </Link>
  );
}

function Roles({ user, users, onRole }: { user: User; users: Users; onRole: (production_id: number, role: string | null) => void }) {
  const options = [{ id: NO_ROLE, words: 'no part in it' }, ...users.roles.map((role) => ({ id: role, words: role }))];
  if (users.productions.length === 0) return <Quiet>no production yet</Quiet>;
  return (
    <div style={{ display: 'grid', gridTemplateColumns: 'minmax(0, 1fr) 140px', gap: '4px 12px', alignItems: 'center' }}>
      {users.productions.flatMap((p) => [
        <span key={`${p.production_id} name`}>{p.production}</span>,
        <Choice key={p.production_id} hidden label={`${user.name} in ${p.production}`} options={options} value={user.roles.find((r) => r.production_id === p.production_id)?.role ?? NO_ROLE}
          onChange={(role) => onRole(p.production_id, role === NO_ROLE ? null : role)} />,
      ])}
    </div>
  );
}

function Audit() {
  const [search, setSearch] = useState('');
  const entries = useAudit(search);
  return (
    <>
      <h2>What was done</h2>
      <FormLine onSubmit={(e) => e.preventDefault()}><TextInput label="Search: names, addresses, words" value={search} onChange={setSearch} maxLength={150} style={{ width: 340 }} /></FormLine>
      <Trouble error={entries.error} />
      <table aria-label="What was done">
        <thead><tr><th>when</th><th>who</th><th>from where</th><th>what</th><th>about</th></tr></thead>
        <tbody>
          {entries.data?.map((e) => (
            <tr key={e.id}><td><Figure style={{ fontSize: 12 }}>{said(e.at)}</Figure></td><td>{e.name}</td><td><Figure style={{ fontSize: 12 }}>{e.address}</Figure></td><td>{e.deed}</td><td style={{ overflowWrap: 'anywhere' }}>{e.about}</td></tr>
          ))}
        </tbody>
      </table>
      {entries.data?.length === 0 && <Quiet>{search ? 'Nothing has all these words.' : 'Nothing yet.'}</Quiet>}
    </>
  );
}

/** Productions that wait to be deleted, where there are any. */
function RemovedProductions() {
  const removed = useRemovedProductions();
  const { bringBack, deleteNow } = useRemovals();
  if (!removed.data?.length) return <Trouble error={removed.error} />;
  return (
    <>
      <h2>Removed productions</h2>
      <Trouble error={bringBack.error ?? deleteNow.error} />
      <Removed whole removals={removed.data} onBringBack={(id) => bringBack.mutate(id)} onDelete={(id) => deleteNow.mutate(id)} />
    </>
  );
}

/** The processes of the installation, and what has happened to them. */
function Parts() {
  const parts = useParts();
  if (!parts.data?.length) return null;
  return (
    <>
      <h2>Parts</h2>
      <table aria-label="Parts">
        <thead><tr><th>part</th><th>runs since</th><th>started again</th><th>how it ended the last time</th></tr></thead>
        <tbody>
          {parts.data.map((p) => (
            <tr key={p.name}><td>{p.name}</td><td>{p.runs ? <Figure style={{ fontSize: 12 }}>{said(p.since)}</Figure> : <Quiet>is being started</Quiet>}</td><td>{p.restarts ? `${p.restarts} ×` : <Quiet>never</Quiet>}</td><td>{p.why}</td></tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

/** Users and productions of this installation, for its administrators. */
export function Administration({ me }: { me: Me }) {
  const users = useUsers();
  const deeds = useUserDeeds();
  const [name, setName] = useState('');
  const [administrator, setAdministrator] = useState(false);
  const [invited, setInvited] = useState<Invited | null>(null);
  const [begins, setBegins] = useState(me.memberships.length === 0);
  const errors = [deeds.add, deeds.invite, deeds.change, deeds.role, deeds.signOut].map((d) => d.error).filter(Boolean);
  return (
    <Frame theme={paper} me={me} productionId={me.memberships[0]?.production_id ?? null} cells={[{ what: 'installation', value: 'Administration' }]}>
      <Page>
        <h2>Users</h2>
        <FormLine onSubmit={(e) => { e.preventDefault(); deeds.add.mutate({ name, administrator }, { onSuccess: (made) => { setInvited(made); setName(''); setAdministrator(false); } }); }}>
          <TextInput label="Name to sign in with" value={name} onChange={setName} isRequired maxLength={150} />
          <Tick isSelected={administrator} onChange={setAdministrator}>may administer</Tick>
          <PlainButton type="submit" isDisabled={deeds.add.isPending}>Add and invite</PlainButton>
        </FormLine>
        {invited && <Invitation invited={invited} onDone={() => setInvited(null)} />}
        {errors.map((error) => <Trouble key={String(error)} error={error} />)}
        <Trouble error={users.error} />
        {users.isPending && <Quiet>Fetching…</Quiet>}
        {users.data && (
          <table aria-label="Users">
            <thead><tr><th>name</th><th>state</th><th>last signed in</th><th style={{ width: 380 }}>part in productions</th><th /></tr></thead>
            <tbody>
              {users.data.users.map((user) => (
                <tr key={user.id} style={user.active ? undefined : { opacity: 0.6 }}>
                  <td style={{ overflowWrap: 'anywhere' }}><strong>{user.name}</strong></td>
                  <td>{!user.active ? 'may not sign in' : user.waits ? 'invited' : 'may sign in'}{user.administrator && ', administers'}</td>
                  <td style={{ whiteSpace: 'nowrap' }}>{user.last_sign_in ? <Figure style={{ fontSize: 12 }}>{said(user.last_sign_in)}</Figure> : <Quiet>never</Quiet>}</td>
                  <td><Roles user={user} users={users.data} onRole={(production_id, role) => deeds.role.mutate({ id: user.id, production_id, role })} /></td>
                  <td>
                    <Deeds>
                      <WordButton onPress={() => deeds.invite.mutate(user.id, { onSuccess: setInvited })} aria-label={`New link for ${user.name}`}>new link</WordButton>
                      <WordButton onPress={() => deeds.signOut.mutate(user.id)} aria-label={`Sign ${user.name} out everywhere`}>sign out</WordButton>
                      <WordButton onPress={() => deeds.change.mutate({ id: user.id, administrator: !user.administrator })} aria-label={`${user.administrator ? 'End' : 'Begin'} administration by ${user.name}`}>{user.administrator ? 'no administrator' : 'administrator'}</WordButton>
                      <WordButton onPress={() => deeds.change.mutate({ id: user.id, active: !user.active })} aria-label={`${user.active ? 'Disable' : 'Enable'} ${user.name}`}>{user.active ? 'disable' : 'enable'}</WordButton>
                    </Deeds>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
        <h2>Productions</h2>
        {begins ? <NewProduction onDone={() => setBegins(false)} /> : <PlainButton onPress={() => setBegins(true)}>New production</PlainButton>}
        <RemovedProductions />
        <Parts />
        <Audit />
      </Page>
    </Frame>
  );
}
