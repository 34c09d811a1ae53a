import { useEffect, useState } from 'react';
import { Socket } from './socket';

export type LiveCamera = { id: string; fps: number; lost: number; points: number[][] };
export type CameraSweep = { id: string; readings: number; covered: number; cells: number[][]; looks: number[][]; lacks: string; share: number };
export type Sweep = {
  share: number;
  good_enough: boolean;
  sentence: string;
  go_to_m: number[] | null;
  positions_m: (number[] | null)[];
  been_m: number[][];
  wanted: number[][];
  cameras: CameraSweep[];
};
export type LiveDevice = { id: string; words: string; performer: string; trouble: string | null; rate: number; hz: number; lost: number; answering: number };
export type Live = {
  kind: string;
  recording: boolean;
  seconds: number;
  timecode_s: number | null;
  rate: number;
  cameras: LiveCamera[];
  devices: LiveDevice[];
  points: number[][];
  sweep: Sweep | null;
  knocked: { camera: string; shift_px: number; at_s: number }[];
};
export type LiveState = { live: Live | null; trouble: string | null; updates: number };

const NOTHING: LiveState = { live: null, trouble: null, updates: 0 };

/** What the recorder sends of a production's devices, twelve times a second; everyMs: no more often than that. */
export function useLive(production: number, everyMs = 0): LiveState {
  const [state, setState] = useState(NOTHING);
  useEffect(() => {
    let shown = -Infinity;
    let sweep: Sweep | null = null;
    let times: number[] = [];
    const socket = Socket.of(production);
    const leave = socket.listen({
      onMessage: (data) => {
        const message = data as Partial<Live> & { trouble?: string | null; changed?: unknown };
        if (message.changed) return;
        if (!message.cameras) {
          setState((before) => ({ ...before, trouble: message.trouble ?? null }));
          return;
        }
        const now = performance.now();
        times = [...times.filter((t) => now - t < 2000), now];
        if (message.sweep) sweep = message.sweep; // sent only when it has changed
        else if (message.kind !== 'sweep') sweep = null;
        if (now - shown < everyMs) return;
        shown = now;
        setState({ live: { ...(message as Live), sweep }, trouble: message.trouble ?? null, updates: times.length / 2 });
      },
      onClose: (refused) =>
        setState({ ...NOTHING, trouble: refused ? 'The live view is for people of this production.' : 'The live view is interrupted; trying again.' }),
    });
    const unwatch = socket.watch();
    return () => {
      unwatch();
      leave();
    };
  }, [production, everyMs]);
  return state;
}
