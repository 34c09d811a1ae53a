import { afterAll, beforeEach, describe, expect, it, vi } from 'vitest';
import { Transport } from './transport';

let pending: ((now: number) => void) | null = null;
let clock = 0;

beforeEach(() => {
  pending = null;
  clock = 0;
  vi.stubGlobal('performance', { now: () => clock });
  vi.stubGlobal('requestAnimationFrame', (f: (now: number) => void) => {
    pending = f;
    return 1;
  });
  vi.stubGlobal('cancelAnimationFrame', () => {
    pending = null;
  });
});
afterAll(() => {
  vi.unstubAllGlobals();
});

function pass(ms: number) {
  clock += ms;
  const run = pending;
  pending = null;
  run?.(clock);
}

describe('transport', () => {
  it('plays in real time and stops at the end', () => {
    const t = new Transport(1, 1 / 30);
    t.toggle();
    pass(400);
    expect(t.time).toBeCloseTo(0.4);
    pass(900);
    expect(t.time).toBe(1);
    expect(t.speed).toBe(0);
  });

  it('steps by whole frames and stays inside the take', () => {
    const t = new Transport(1, 0.04);
    t.seek(0.05);
    t.step(1);
    expect(t.time).toBeCloseTo(0.08);
    t.step(-10);
    expect(t.time).toBe(0);
  });

  it('doubles the shuttle speed with every press and turns round with the other key', () => {
    const t = new Transport(10, 0.04);
    t.shuttle(1);
    t.shuttle(1);
    expect(t.speed).toBe(2);
    t.shuttle(-1);
    expect(t.speed).toBe(-1);
  });

  it('tells its listeners at once and until they leave', () => {
    const t = new Transport(10, 0.04);
    const seen: number[] = [];
    const leave = t.subscribe((time) => seen.push(time));
    t.seek(2);
    leave();
    t.seek(3);
    expect(seen).toEqual([0, 2]);
  });
});
