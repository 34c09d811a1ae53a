import { useEffect, useState } from 'react';
import type { Schemas } from '../api/client';
import { Socket, type Message } from './socket';

export type CameraSweep = Schemas['CameraSweep'];
export type Sweep = Schemas['Sweep'];
export type LiveDevice = Schemas['LiveDevice'];
export type Live = Schemas['Live'];
/** opening: whether it has been received for so short a time that its rates mean nothing yet. */
export type LiveState = { live: Live | null; trouble: string | null; updates: number; opening: boolean };

const COUNTED_MS = 2000; // until its rates have been counted, a stage that has just been opened looks slow

const NOTHING: LiveState = { live: null, trouble: null, updates: 0, opening: true };

/** What the recorder sends of a production's devices, twelve times a second; everyMs: no more often than that. */
export function useLive(production: number, everyMs = 0): LiveState {
  const [state, setState] = useState(NOTHING);
  useEffect(() => {
    let shown = -Infinity;
    let first = Infinity;
    let sweep: Sweep | null = null;
    let times: number[] = [];
    const socket = Socket.of(production);
    const leave = socket.listen({
      onMessage: (message: Message) => {
        if ('changed' in message) return;
        if (!('cameras' in message)) {
          setState((before) => ({ ...before, trouble: message.trouble }));
          return;
        }
        const now = performance.now();
        first = Math.min(first, now);
        times = [...times.filter((t) => now - t < 2000), now];
        if (message.sweep) sweep = message.sweep; // sent only when it has changed
        else if (message.kind !== 'sweep') sweep = null;
        if (now - shown < everyMs) return;
        shown = now;
        setState({ live: { ...message, sweep }, trouble: message.trouble, updates: times.length / 2, opening: now - first < COUNTED_MS });
      },
      onClose: (refused) => {
        first = Infinity;
        setState({ ...NOTHING, trouble: refused ? 'The live view is for people of this production.' : 'The live view is interrupted; trying again.' });
      },
    });
    const unwatch = socket.watch();
    return () => {
      unwatch();
      leave();
    };
  }, [production, everyMs]);
  return state;
}
