import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { night } from '../theme';
import { drawPicture, type PictureContent } from './camera-picture';

type Call = [string, ...number[]];

/** A canvas that remembers what was drawn on it, in the picture's own pixels. */
function paper(width = 512) {
  const calls: Call[] = [];
  const words: string[] = [];
  const strokes: string[] = [];
  const context = new Proxy({} as Record<string, unknown>, {
    get: (kept, name: string) => {
      if (name in kept) return kept[name];
      return (...values: unknown[]) => {
        if (name === 'fillText') words.push(String(values[0]));
        if (name === 'stroke') strokes.push(String(kept.strokeStyle));
        calls.push([name, ...values.filter((v): v is number => typeof v === 'number')]);
      };
    },
    set: (kept, name: string, value) => {
      kept[name] = value;
      return true;
    },
  });
  const canvas = { clientWidth: width, clientHeight: (width * 3) / 4, width: 0, height: 0, getContext: () => context };
  return { canvas: canvas as unknown as HTMLCanvasElement, calls, words, strokes, of: (name: string) => calls.filter((c) => c[0] === name) };
}

const empty: PictureContent = { width: 2048, height: 1536, points: [] };
const draw = (content: Partial<PictureContent>, large = true) => {
  const sheet = paper();
  drawPicture(sheet.canvas, { ...empty, ...content }, night, large);
  return sheet;
};

describe('a camera’s picture', () => {
  beforeAll(() => {
    vi.stubGlobal('window', { devicePixelRatio: 2 });
  });
  afterAll(() => {
    vi.unstubAllGlobals();
  });

  it('is as sharp as the screen, whatever its size', () => {
    const { canvas, of } = draw({});
    expect([canvas.width, canvas.height]).toEqual([1024, 768]);
    expect(of('setTransform')[0][1]).toBeCloseTo((2 * 512) / 2048);
  });

  it('shows each centroid where it is, and none so small that it is lost', () => {
    const { of } = draw({ points: [[100, 200, 0.4], [900, 40, 30]] }, false);
    const dots = of('arc');
    expect(dots.map((c) => c.slice(1, 3))).toEqual([[100, 200], [900, 40]]);
    expect(dots[0][3]).toBeCloseTo(1.2 * 4);
    expect(dots[1][3]).toBe(30);
  });

  it('joins a rebuilt point to its centroid, twelve times as long, and never to another’s', () => {
    const { of } = draw({ points: [[103, 200, 2], [500, 530, 2]], projected: [[100, 200], [500, 500], [900, 900]] });
    expect(of('strokeRect')).toHaveLength(3);
    expect(of('lineTo').map((c) => c.slice(1))).toEqual([[136, 200]]);
  });

  it('marks the point that is picked', () => {
    const { of } = draw({ projected: [[100, 100], [300, 300]], picked: 1 });
    const [plain, picked] = of('strokeRect');
    expect(picked[3]).toBeGreaterThan(plain[3]);
  });

  it('draws the rays of the others with their names inside the picture, large only', () => {
    const rays = [{ camera: 'c09', path: [[-30, 4], [500, 400], [2047, 1500]] as [number, number][] }];
    const large = draw({ rays });
    expect(large.of('lineTo').map((c) => c.slice(1))).toEqual([[500, 400], [2047, 1500]]);
    expect(large.words).toEqual(['c09']);
    const [, x, y] = large.of('fillText')[0];
    expect(x).toBeGreaterThan(0);
    expect(y).toBeGreaterThan(4);
    expect(draw({ rays }, false).words).toEqual([]);
  });

  it('hatches what a sweep lacks and counts what it has', () => {
    const cells = [[0, 7, 0]];
    const sweep = { id: 'c01', readings: 1, covered: 0.5, cells, looks: [[1, 1, 0]], lacks: 'left part', share: 0.2 };
    const { strokes, words, of } = draw({ sweep });
    expect(words).toEqual(['7']);
    expect(strokes).toEqual([night.wrong]); // the cell that looks into the volume and is empty
    expect(of('fillRect')).toHaveLength(2); // the ground and the full cell
  });

  it('draws the mean residual of each cell as an arrow, a tenth of a pixel 120 long', () => {
    const { of } = draw({ residual: [[[0.1, 0], null], [null, [0, -0.05]]] });
    const arrows = of('moveTo').filter((_, i) => i % 2 === 0);
    expect(arrows.map((c) => c.slice(1))).toEqual([[512, 384], [1536, 1152]]);
    const ends = of('lineTo');
    expect(ends[0].slice(1)).toEqual([632, 384]);
    expect(ends.some((c) => c[1] === 1536 && Math.abs(c[2] - 1092) < 1e-9)).toBe(true);
  });

  it('veils blinds, the smallest so that they are seen', () => {
    const { of } = draw({ blinds: [{ camera: 'c01', x: 40, y: 50, radius: 1, share: 1, by_hand: false }, { camera: 'c01', x: 400, y: 50, radius: 60, share: 1, by_hand: false }] });
    expect(of('arc').map((c) => c[3])).toEqual([12, 60]);
  });
});
