import { useEffect, useRef, type KeyboardEvent, type PointerEvent } from 'react';
import styled, { useTheme } from 'styled-components';
import type { Theme } from '../theme';
import type { Blind } from '../optics/lens';
import type { CameraSweep } from '../queries/live';

export type Residual = (number[] | null)[][];

/** Everything that can be seen in one camera's picture; absent parts are not drawn. */
export type PictureContent = {
  width: number;
  height: number;
  points: ArrayLike<number>[];
  blinds?: Blind[];
  sweep?: Pick<CameraSweep, 'cells' | 'looks'>;
  /** Mean residual in each cell of the picture, pixels. */
  residual?: Residual | null;
  /** Where rebuilt points should appear; joined to the centroid nearest by, so that the offset is seen. */
  projected?: [number, number][];
  /** Of `projected`, the one that is picked. */
  picked?: number | null;
  /** Rays of the other cameras that see what is picked, as they run through this picture. */
  rays?: { camera: string; path: [number, number][] }[];
};

const ENOUGH = 3; // markers in a cell that count as covered
const FAR_PX = 12; // farther off it is another marker's: a knocked camera is off by less
const ARROW = 1200; // a residual of 0.1 px is drawn 120 px long

/** Draw a picture into a canvas of any size; `large` adds what a small tile has no room for. */
export function drawPicture(canvas: HTMLCanvasElement, c: PictureContent, theme: Theme, large: boolean) {
  const dense = window.devicePixelRatio || 1;
  const [w, h] = [canvas.clientWidth, canvas.clientHeight];
  if (canvas.width !== Math.round(w * dense)) canvas.width = Math.round(w * dense);
  if (canvas.height !== Math.round(h * dense)) canvas.height = Math.round(h * dense);
  const g = canvas.getContext('2d', { willReadFrequently: true })!;
  const k = w / c.width;
  g.setTransform(dense * k, 0, 0, dense * k, 0, 0);
  g.fillStyle = '#0c0b12';
  g.fillRect(0, 0, c.width, c.height);
  if (c.sweep) drawCells(g, c, theme, k, large);
  for (const b of c.blinds ?? []) {
    g.beginPath();
    g.arc(b.x, b.y, Math.max(b.radius, 3 / k), 0, 2 * Math.PI);
    g.fillStyle = 'rgba(161, 157, 181, 0.28)';
    g.fill();
    g.lineWidth = 1 / k;
    g.strokeStyle = theme.quiet;
    g.stroke();
  }
  if (c.residual && large) drawResidual(g, c, c.residual, theme, k);
  for (const { camera, path } of (large && c.rays) || []) {
    g.strokeStyle = theme.selection;
    g.globalAlpha = 0.55;
    g.lineWidth = 1 / k;
    g.beginPath();
    path.forEach(([u, v], i) => (i ? g.lineTo(u, v) : g.moveTo(u, v)));
    g.stroke();
    g.globalAlpha = 1;
    g.fillStyle = theme.quiet;
    g.font = `${11 / k}px ${theme.mono}`;
    const [u, v] = path[0];
    g.fillText(camera, Math.min(Math.max(u, 4 / k), c.width - 26 / k), Math.min(Math.max(v, 14 / k), c.height - 6 / k));
  }
  if (c.projected && large) {
    g.lineWidth = 1 / k;
    c.projected.forEach(([u, v], i) => {
      const mine = i === c.picked;
      g.strokeStyle = mine ? theme.selection : theme.left;
      const size = (mine ? 9 : 5) / k;
      g.strokeRect(u - size, v - size, 2 * size, 2 * size);
      const near = nearest(c.points, u, v, FAR_PX);
      if (near) {
        g.beginPath();
        g.moveTo(u, v);
        g.lineTo(u + (near[0] - u) * 12, v + (near[1] - v) * 12); // twelve times as long, or nobody would see it
        g.stroke();
      }
    });
  }
  g.fillStyle = theme.marker;
  const least = (large ? 2 : 1.2) / k;
  for (const p of c.points) {
    g.beginPath();
    g.arc(p[0], p[1], Math.max(p[2], least), 0, 2 * Math.PI);
    g.fill();
  }
}

function nearest(points: ArrayLike<number>[], u: number, v: number, within: number): ArrayLike<number> | null {
  let best = within;
  let found = null;
  for (const p of points) {
    const d = Math.hypot(p[0] - u, p[1] - v);
    if (d < best) [best, found] = [d, p];
  }
  return found;
}

function drawCells(g: CanvasRenderingContext2D, c: PictureContent, theme: Theme, k: number, large: boolean) {
  const cells = c.sweep!.cells;
  const [dx, dy] = [c.width / cells[0].length, c.height / cells.length];
  cells.forEach((row, j) =>
    row.forEach((count, i) => {
      const full = count >= ENOUGH;
      const looks = c.sweep!.looks[j][i] === 1;
      if (full) {
        g.fillStyle = theme.good;
        g.globalAlpha = 0.16 + 0.3 * Math.min(1, count / 60);
        g.fillRect(i * dx, j * dy, dx, dy);
        g.globalAlpha = 1;
      } else if (looks) {
        // what is missing is hatched: it must not hang on a colour
        g.strokeStyle = theme.wrong;
        g.globalAlpha = 0.5;
        g.lineWidth = 1 / k;
        g.beginPath();
        for (let s = 0.25; s < 2; s += 0.5) {
          g.moveTo(i * dx + Math.max(0, s - 1) * dx, j * dy + Math.min(1, s) * dy);
          g.lineTo(i * dx + Math.min(1, s) * dx, j * dy + Math.max(0, s - 1) * dy);
        }
        g.stroke();
        g.globalAlpha = 1;
      }
      if (large && count > 0) {
        g.fillStyle = theme.quiet;
        g.font = `${11 / k}px ${theme.mono}`;
        g.fillText(String(count), i * dx + 5 / k, j * dy + 14 / k);
      }
    }),
  );
}

function drawResidual(g: CanvasRenderingContext2D, c: PictureContent, residual: Residual, theme: Theme, k: number) {
  const [dx, dy] = [c.width / residual[0].length, c.height / residual.length];
  g.strokeStyle = theme.selection;
  g.fillStyle = theme.selection;
  g.lineWidth = 1.5 / k;
  residual.forEach((row, j) =>
    row.forEach((r, i) => {
      if (!r) return;
      const [x, y] = [(i + 0.5) * dx, (j + 0.5) * dy];
      const [ex, ey] = [x + ARROW * r[0], y + ARROW * r[1]];
      const size = Math.hypot(ex - x, ey - y);
      g.beginPath();
      g.moveTo(x, y);
      g.lineTo(ex, ey);
      g.stroke();
      if (size < 4 / k) return;
      const [ux, uy] = [(ex - x) / size, (ey - y) / size];
      const head = Math.min(7 / k, size / 2);
      g.beginPath();
      g.moveTo(ex, ey);
      g.lineTo(ex - head * (ux + 0.5 * uy), ey - head * (uy - 0.5 * ux));
      g.lineTo(ex - head * (ux - 0.5 * uy), ey - head * (uy + 0.5 * ux));
      g.fill();
    }),
  );
}

export const Canvas = styled.canvas`
  display: block;
  width: 100%;
  background: #0c0b12;
`;

type PictureProps = { content: PictureContent; large?: boolean; label: string; onPick?: (u: number, v: number) => void };

/** One camera's picture as it is. */
export function Picture({ content, large = false, label, onPick }: PictureProps) {
  const theme = useTheme();
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    if (canvas.current) drawPicture(canvas.current, content, theme, large);
  });
  return (
    <Canvas ref={canvas} role="img" aria-label={label} style={{ aspectRatio: `${content.width} / ${content.height}`, cursor: onPick ? 'crosshair' : undefined }}
      onClick={(e) => {
        const box = e.currentTarget.getBoundingClientRect();
        onPick?.(((e.clientX - box.left) / box.width) * content.width, ((e.clientY - box.top) / box.height) * content.height);
      }} />
  );
}

const Over = styled.div`
  position: relative;
  svg {
    position: absolute;
    inset: 0;
    width: 100%;
    height: 100%;
    cursor: crosshair;
    touch-action: none;
  }
  circle {
    fill: transparent;
    stroke: ${(p) => p.theme.quiet};
    cursor: move;
    outline: none;
  }
  circle:focus-visible,
  circle[data-picked] {
    stroke: ${(p) => p.theme.selection};
    fill: rgba(165, 216, 238, 0.15);
  }
`;

type EditProps = { content: PictureContent; camera: string; blinds: Blind[]; onChange: (blinds: Blind[], words: string) => void; disabled: boolean };

/** A camera's picture whose blinds can be moved, resized, added and removed, by mouse and by keyboard. */
export function EditBlinds({ content, camera, blinds, onChange, disabled }: EditProps) {
  const svg = useRef<SVGSVGElement>(null);
  const drag = useRef<{ index: number; dx: number; dy: number; moved: boolean } | null>(null);
  const local = useRef(blinds);
  const circles = useRef<(SVGCircleElement | null)[]>([]);
  useEffect(() => {
    local.current = blinds;
  }, [blinds]);
  const at = (e: PointerEvent): [number, number] => {
    const box = svg.current!.getBoundingClientRect();
    return [((e.clientX - box.left) / box.width) * content.width, ((e.clientY - box.top) / box.height) * content.height];
  };
  const down = (e: PointerEvent) => {
    if (disabled) return;
    const [x, y] = at(e);
    const index = local.current.findIndex((b) => b.camera === camera && Math.hypot(b.x - x, b.y - y) < Math.max(b.radius, 14));
    if (index < 0) return;
    drag.current = { index, dx: local.current[index].x - x, dy: local.current[index].y - y, moved: false };
    svg.current!.setPointerCapture(e.pointerId);
  };
  const move = (e: PointerEvent) => {
    if (!drag.current) return;
    const [x, y] = at(e);
    drag.current.moved = true;
    local.current = local.current.map((b, i) =>
      i === drag.current!.index ? { ...b, x: Math.round((x + drag.current!.dx) * 10) / 10, y: Math.round((y + drag.current!.dy) * 10) / 10, by_hand: true } : b,
    );
    const circle = circles.current[drag.current.index];
    circle?.setAttribute('cx', String(local.current[drag.current.index].x));
    circle?.setAttribute('cy', String(local.current[drag.current.index].y));
  };
  const up = () => {
    if (drag.current?.moved) onChange(local.current, `blind of ${camera} moved`);
    drag.current = null;
  };
  const add = (x: number, y: number) =>
    onChange([...blinds, { camera, x: Math.round(x), y: Math.round(y), radius: 24, share: 1, by_hand: true }], `blind of ${camera} added`);
  const key = (e: KeyboardEvent, index: number) => {
    const step = e.shiftKey ? 20 : 4;
    const ways: Record<string, [number, number]> = { ArrowLeft: [-step, 0], ArrowRight: [step, 0], ArrowUp: [0, -step], ArrowDown: [0, step] };
    const change = (values: Partial<Blind>, words: string) =>
      onChange(blinds.map((b, i) => (i === index ? { ...b, ...values, by_hand: true } : b)), `blind of ${camera} ${words}`);
    const b = blinds[index];
    if (ways[e.key]) change({ x: b.x + ways[e.key][0], y: b.y + ways[e.key][1] }, 'moved');
    else if (e.key === '+' || e.key === '=') change({ radius: b.radius + step }, 'made larger');
    else if (e.key === '-') change({ radius: Math.max(4, b.radius - step) }, 'made smaller');
    else if (e.key === 'Delete' || e.key === 'Backspace') onChange(blinds.filter((_, i) => i !== index), `blind of ${camera} removed`);
    else return;
    e.preventDefault();
    e.stopPropagation();
  };
  return (
    <Over>
      <Picture content={content} large label={`Picture of camera ${camera}`} />
      <svg ref={svg} viewBox={`0 0 ${content.width} ${content.height}`} onPointerDown={down} onPointerMove={move} onPointerUp={up}
        onDoubleClick={(e) => {
          if (disabled) return;
          const box = svg.current!.getBoundingClientRect();
          add(((e.clientX - box.left) / box.width) * content.width, ((e.clientY - box.top) / box.height) * content.height);
        }}>
        {blinds.map((b, i) =>
          b.camera === camera ? (
            <circle key={i} ref={(node) => { circles.current[i] = node; }} cx={b.x} cy={b.y} r={Math.max(b.radius, 12)} strokeWidth={4} tabIndex={0} role="button"
              aria-label={`Blind at ${b.x.toFixed(0)}, ${b.y.toFixed(0)}, radius ${b.radius.toFixed(0)} pixels`} onKeyDown={(e) => key(e, i)} />
          ) : null,
        )}
      </svg>
    </Over>
  );
}
