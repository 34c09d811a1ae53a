import { describe, expect, it } from 'vitest';
import { night } from '../theme';
import { drawChannels, drawCurves, drawShare, everHeard, limitsOf, tickStep, type Paint } from './draw';

/** A canvas that keeps what was drawn as lines: for each stroke its dash and its points. */
function sheet() {
  const strokes: { dash: number[]; points: number[][] }[] = [];
  const bars: number[] = [];
  const heights: number[] = [];
  let dash: number[] = [];
  let points: number[][] = [];
  const nothing = () => {};
  const g = {
    clearRect: nothing, fillRect: (px: number, _top: number, _wide: number, high: number) => { bars.push(px); heights.push(high); }, fillText: nothing, measureText: () => ({ width: 50 }),
    setLineDash: (d: number[]) => (dash = d),
    beginPath: () => (points = []),
    moveTo: (px: number, py: number) => points.push([px, py]),
    lineTo: (px: number, py: number) => points.push([px, py]),
    stroke: () => points.length && strokes.push({ dash, points }),
  };
  const paint = { g, width: 100, height: 90, range: { from: 0, to: 1 }, theme: night } as unknown as Paint;
  return { paint, strokes, bars, heights };
}

describe('lanes', () => {
  it('chooses ticks that leave room for a timecode', () => {
    for (const span of [0.5, 3, 24, 90, 600]) {
      const step = tickStep({ from: 0, to: span }, 1000);
      expect((step / span) * 1000).toBeGreaterThanOrEqual(100);
    }
  });

  it('draws fills dashed and a proposal dotted, all on one scale', () => {
    const values = new Float32Array(30).fill(NaN);
    for (let s = 0; s < 4; s += 1) values.set([s, 0, 0], s * 3); // seen
    for (let s = 4; s < 6; s += 1) values.set([s, 0, 0], s * 3); // filled
    const before = values.slice();
    before.fill(NaN, 12, 18);
    const track = { values, samples: 10, width: 3, rate: 10, start: 0 };
    const { paint, strokes } = sheet();
    drawCurves(paint, track, { ...track, values: before }, 0, { first: 6, rate: 10, start: 0, path: [[6, 0, 0], [9, 0, 0], null] });
    const [seen, filled, proposed] = strokes.filter((s) => s.points.some((q) => q[1] < 30)); // the band of x
    expect([seen.dash.length, filled.dash, proposed.dash]).toEqual([0, [3, 3], [1.5, 2.5]]);
    expect([seen, filled, proposed].map((s) => s.points.length)).toEqual([4, 2, 2]);
    expect(proposed.points.map((q) => q[0])).toEqual([60, 70]);
    expect(Math.min(...strokes.flatMap((s) => s.points.map((q) => q[1])))).toBeCloseTo(3); // the proposal reaches highest
    expect(seen.points[0][1]).toBeCloseTo(27);
  });

  it('draws nothing of a device before its first sample and after its last', () => {
    const { paint, bars } = sheet();
    drawShare(paint, { values: new Float32Array(20).fill(1), samples: 20, width: 1, rate: 50, start: 0.3 }, 1, [0]);
    expect(bars).toEqual(Array.from({ length: 40 }, (_, i) => 30 + i));
  });

  it('counts what was never worn as nothing missing', () => {
    const values = new Float32Array(40 * 3).map((_, i) => (i % 3 === 1 || (i % 3 === 2 && i < 60) ? NaN : 1));
    const track = { values, samples: 40, width: 3, rate: 40, start: 0 };
    const heard = everHeard(track, 3);
    expect(heard).toEqual([0, 2]);
    const { paint, heights } = sheet();
    drawShare(paint, track, 3, heard); // the third part answers from the middle on
    expect(heights.slice(0, 48)).toEqual(Array(48).fill(42));
    expect(heights.slice(-48)).toEqual(Array(48).fill(84));
  });

  it('finds the reach of a channel and ignores what is missing', () => {
    const track = { values: new Float32Array([1, 9, NaN, 9, -2, 9]), samples: 3, width: 2, rate: 1, start: 0 };
    expect(limitsOf(track, 0)).toEqual([-2, 1]);
    expect(limitsOf({ ...track, values: new Float32Array(6).fill(NaN) }, 0)).toEqual([0, 1]);
  });

  it('draws a sample where the fitted clock has it, whatever its device counted', () => {
    const clap = 40;
    const values = new Float32Array(100).map((_, s) => (s === clap ? 1 : 0));
    const at = (start: number, rate: number, samples: number) => {
      const { paint, strokes } = sheet();
      paint.range = { from: 0, to: 2 };
      drawChannels(paint, { values: values.slice(0, samples), samples, width: 1, rate, start }, [{ at: 0, colour: '#fff', dash: [] }], [[0, 1]]);
      const points = strokes[0].points;
      return points.reduce((best, q) => (q[1] < best[1] ? q : best))[0];
    };
    const late = at(0.4, 50, 80); // began 0.4 s after the take
    expect(late).toBeCloseTo(((0.4 + clap / 50) / 2) * 100);
    expect(at(0, clap / (0.4 + clap / 50), 80)).toBeCloseTo(late); // another rate, the same moment
  });
});
