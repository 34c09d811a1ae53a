import { useRef, useState } from 'react';
import styled, { useTheme } from 'styled-components';
import type { Range } from './draw';

/** [seconds, value]: straight lines between, level before the first and after the last. */
export type Point = [number, number];

const LOWEST = 0.1; // share of the height left free under 0 and over 1, so that points can be taken hold of
const SAME_S = 1e-3;

const Handle = styled.button`
  position: absolute;
  width: 12px;
  height: 12px;
  margin: -6px 0 0 -6px;
  padding: 0;
  border: 2px solid ${(p) => p.theme.selection};
  border-radius: 50%;
  background: ${(p) => p.theme.ground};
  cursor: grab;
  &:focus-visible {
    outline: 2px solid ${(p) => p.theme.text};
    outline-offset: 2px;
  }
`;

/** The points with one more, or with one moved or taken out; always in order of time, values 0 to 1. */
export function withPoint(points: Point[], at: number | null, point: Point | null): Point[] {
  const left = points.filter((_, i) => i !== at);
  if (point === null) return left.length ? left : [[0, 0]];
  const [seconds, value] = [Math.max(0, point[0]), Math.min(1, Math.max(0, point[1]))];
  return [...left.filter((p) => Math.abs(p[0] - seconds) > SAME_S), [seconds, value] as Point].sort((a, b) => a[0] - b[0]);
}

/** A value over time, 0 to 1, to be changed where it is seen: a double click adds a point, dragging moves it, Delete takes it out. */
export function Envelope({ label, points, range, height, duration, isDisabled, onChange }: { label: string; points: Point[]; range: Range; height: number; duration: number; isDisabled: boolean; onChange: (points: Point[]) => void }) {
  const theme = useTheme();
  const box = useRef<HTMLDivElement>(null);
  const [moving, setMoving] = useState<Point[] | null>(null);
  const shown = moving ?? points;
  const span = range.to - range.from;
  const x = (seconds: number) => (100 * (seconds - range.from)) / span;
  const y = (value: number) => 100 * (1 - LOWEST - value * (1 - 2 * LOWEST));
  const under = (e: { clientX: number; clientY: number }): Point => {
    const b = box.current!.getBoundingClientRect();
    const value = (1 - LOWEST - (e.clientY - b.top) / b.height) / (1 - 2 * LOWEST);
    return [Math.min(duration, range.from + ((e.clientX - b.left) / b.width) * span), value];
  };
  const drag = (i: number) => (e: React.PointerEvent) => {
    if (isDisabled) return;
    e.preventDefault();
    (e.currentTarget as HTMLElement).focus();
    let now = points;
    const move = (m: PointerEvent) => {
      now = withPoint(points, i, under(m));
      setMoving(now);
    };
    const up = () => {
      window.removeEventListener('pointermove', move);
      window.removeEventListener('pointerup', up);
      setMoving(null);
      if (now !== points) onChange(now);
    };
    window.addEventListener('pointermove', move);
    window.addEventListener('pointerup', up);
  };
  const key = (i: number) => (e: React.KeyboardEvent) => {
    const [seconds, value] = points[i];
    const steps: Record<string, Point | null> = {
      ArrowUp: [seconds, value + 0.1], ArrowDown: [seconds, value - 0.1], ArrowLeft: [seconds - 0.1, value], ArrowRight: [seconds + 0.1, value], Delete: null, Backspace: null,
    };
    if (isDisabled || !(e.key in steps)) return;
    e.preventDefault();
    e.stopPropagation();
    onChange(withPoint(points, i, steps[e.key]));
  };
  const line = [[range.from, shown[0][1]], ...shown, [range.to, shown.at(-1)![1]]].filter(([t], i, all) => i === 0 || i === all.length - 1 || (t >= range.from - span && t <= range.to + span));
  return (
    <div ref={box} role="group" aria-label={label} style={{ position: 'absolute', inset: 0, height }} onDoubleClick={(e) => !isDisabled && !(e.target as HTMLElement).closest('button') && onChange(withPoint(points, null, under(e)))}>
      <svg viewBox="0 0 100 100" preserveAspectRatio="none" style={{ width: '100%', height: '100%', display: 'block' }} aria-hidden="true">
        <polyline points={line.map(([t, v]) => `${x(t)},${y(v)}`).join(' ')} fill="none" stroke={theme.selection} strokeWidth="1.5" vectorEffect="non-scaling-stroke" />
      </svg>
      {shown.map(([seconds, value], i) => seconds >= range.from && seconds <= range.to && (
        <Handle key={i} type="button" aria-label={`${label}: ${value.toFixed(2)} at ${seconds.toFixed(1)} s`} style={{ left: `${x(seconds)}%`, top: `${y(value)}%` }} onPointerDown={drag(i)} onKeyDown={key(i)} />
      ))}
    </div>
  );
}
