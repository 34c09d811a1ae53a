import { useQueryClient, type QueryClient, type QueryKey } from '@tanstack/react-query';
import { createContext, useContext, useEffect, useState } from 'react';
import type { Schemas } from '../api/client';
import { Socket } from './socket';

/** What has changed in a production, as the server pushes it: which table, and whatever it is about. */
export type Change = Pick<Schemas['Change'], 'table'> & Partial<Schemas['Change']>;

const STEP_MS = 250; // changes that come together are fetched together
const LARGE_MS = 1000;
const LARGE = ['board', 'stage']; // answers that are not asked for more often than this

/** The queries that a change makes stale. */
export function staleBy(change: Change, production: number): QueryKey[] {
  const keys: QueryKey[] = [];
  const progress = change.table === 'work_run' && change.state === 'running';
  if (typeof change.take === 'number') keys.push(['runs', change.take], ...(progress ? [] : [['take', change.take], ['changes', change.take], ['trust', change.take]]));
  if (/^(takes|shoot)_|^work_run$|^handover_package$|^floor_/.test(change.table)) keys.push(['board', production]);
  if (/^(takes_take|shoot_|handover_)/.test(change.table)) keys.push(['storage', production]);
  if (/^cast_|^takes_appearance$|^shoot_slate$/.test(change.table)) keys.push(['cast', production]);
  if (/^handover_package$|^work_run$/.test(change.table) && typeof change.take !== 'number') keys.push(['packages', production], ['package']);
  if (/^stage_/.test(change.table) || change.table === 'work_run') keys.push(['stage', production]);
  if (/^floor_|^takes_take$|^cast_/.test(change.table)) keys.push(['rolling', production], ['floor']);
  return keys;
}

const delayOf = (key: QueryKey): number => (LARGE.includes(String(key[0])) ? LARGE_MS : STEP_MS);

/** Collects what is stale and fetches it a little later, each at most once in that time. */
class Stale {
  private waiting = new Map<string, QueryKey>();
  private timers = new Map<number, number>();

  constructor(private client: QueryClient) {}

  add(key: QueryKey) {
    const delay = delayOf(key);
    this.waiting.set(JSON.stringify(key), key);
    if (!this.timers.has(delay)) this.timers.set(delay, window.setTimeout(() => this.flush(delay), delay));
  }

  private flush(delay: number) {
    this.timers.delete(delay);
    for (const [name, key] of this.waiting)
      if (delayOf(key) === delay) {
        this.waiting.delete(name);
        void this.client.invalidateQueries({ queryKey: key });
      }
  }
}

const Pushed = createContext(false);
export const PushedProvider = Pushed.Provider;

/** Whether changes are pushed; where they are not, queries ask again now and then. */
export const usePushed = (): boolean => useContext(Pushed);

/** How often a query asks by itself: not at all while changes are pushed. */
export function useAsking(milliseconds: number): number | false {
  return usePushed() ? false : milliseconds;
}

/** Listen to the changes of a production as long as the page shows it. Returns whether they come. */
export function useChanges(production: number): boolean {
  const client = useQueryClient();
  const [pushed, setPushed] = useState(false);
  useEffect(() => {
    const stale = new Stale(client);
    let missed = false;
    return Socket.of(production).listen({
      onMessage: (message) => {
        for (const change of 'changed' in message ? message.changed : []) for (const key of staleBy(change, production)) stale.add(key);
      },
      onOpen: () => {
        setPushed(true);
        if (missed) void client.invalidateQueries(); // nobody knows what changed meanwhile
        missed = true;
      },
      onClose: () => setPushed(false),
    });
  }, [client, production]);
  return pushed;
}
