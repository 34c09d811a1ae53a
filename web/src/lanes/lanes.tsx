import { useCallback, useEffect, useLayoutEffect, useRef, useState, type ReactNode } from 'react';
import styled, { useTheme } from 'styled-components';
import type { Transport } from '../time/transport';
import { drawRuler, type Paint, type Range } from './draw';

export const GUTTER = 172;

const Wrap = styled.div`
  position: relative;
  isolation: isolate; /* the ruler lies over the lanes, not over what opens above them */
  height: 100%;
  overflow-y: auto;
  overflow-x: hidden;
  background: ${(p) => p.theme.ground};
  user-select: none;
`;

const Line = styled.div`
  display: grid;
  grid-template-columns: ${GUTTER}px 1fr;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
`;

const Name = styled.div`
  background: ${(p) => p.theme.raised};
  padding: 3px 6px 3px 14px;
  min-width: 0;
  overflow: hidden;
  line-height: 1.25;
  small {
    display: block;
    color: ${(p) => p.theme.quiet};
    font-size: 11px;
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
`;

const Rows = styled.ul`
  position: absolute;
  inset: 0 5px auto auto;
  width: 118px;
  margin: 0;
  padding: 0;
  list-style: none;
  text-align: right;
  font-size: 9.5px;
  color: ${(p) => p.theme.quiet};
  background: ${(p) => p.theme.raised};
  white-space: nowrap;
`;

const Head = styled.div`
  position: absolute;
  top: 0;
  bottom: 0;
  left: ${GUTTER}px;
  right: 0;
  pointer-events: none;
  overflow: hidden;
  > div:last-child {
    position: absolute;
    inset: 0 auto 0 -1px;
    width: 2px; /* no wider: all that a moving layer covers is drawn anew for every picture */
    will-change: transform;
    background: ${(p) => p.theme.text};
  }
`;

const Point = styled.div`
  position: absolute;
  top: 0;
  bottom: 0;
  width: 2px;
  background: ${(p) => p.theme.selection};
`;

const Shade = styled.div`
  position: absolute;
  top: 0;
  bottom: 0;
  background: ${(p) => p.theme.ground};
  opacity: 0.55;
`;

/** A canvas that paints itself when its content, its size or the range changes. */
export function Strip({ height, range, paint, onPick }: { height: number; range: Range; paint: (p: Paint) => void; onPick?: (y: number) => void }) {
  const ref = useRef<HTMLCanvasElement>(null);
  const theme = useTheme();
  const [width, setWidth] = useState(0);
  useLayoutEffect(() => {
    const canvas = ref.current!;
    const watch = new ResizeObserver(() => setWidth(canvas.clientWidth));
    watch.observe(canvas);
    setWidth(canvas.clientWidth);
    return () => watch.disconnect();
  }, []);
  useEffect(() => {
    const canvas = ref.current;
    const g = canvas?.getContext('2d', { willReadFrequently: true }); // kept in memory: drawn seldom, and no layer of its own to be put together for every picture
    if (!canvas || !g || width === 0) return;
    const dpr = window.devicePixelRatio || 1;
    canvas.width = Math.round(width * dpr);
    canvas.height = Math.round(height * dpr);
    g.setTransform(dpr, 0, 0, dpr, 0, 0);
    paint({ g, width, height, range, theme });
  }, [width, height, range, paint, theme]);
  return (
    <canvas
      ref={ref}
      style={{ width: '100%', height, display: 'block' }}
      onClick={onPick && ((e) => onPick((e.clientY - e.currentTarget.getBoundingClientRect().top) / height))}
    />
  );
}

export type Lane = {
  id: string;
  name: ReactNode;
  detail?: string;
  height: number;
  /** One short name a row, written in the gutter beside the rows that `paint` draws. */
  rows?: string[];
  paint?: (p: Paint) => void;
  onPick?: (y: number) => void;
  content?: (range: Range) => ReactNode;
};

export type LanesProps = {
  lanes: Lane[];
  transport: Transport;
  title: ReactNode;
  labelOf: (seconds: number) => string;
  inOut: [number, number];
  range: Range;
  onRange: (range: Range) => void;
};

/** Every stream over one time axis. Wheel zooms about the pointer, shift-wheel or sideways moves, drag scrubs. */
export function Lanes({ lanes, transport, title, labelOf, inOut, range, onRange }: LanesProps) {
  const wrap = useRef<HTMLDivElement>(null);
  const head = useRef<HTMLDivElement>(null);
  const current = useRef(range);
  current.current = range;
  const room = useRef(0); // pixels that the range takes up

  useLayoutEffect(() => {
    const element = wrap.current!;
    const watch = new ResizeObserver(() => {
      room.current = element.clientWidth - GUTTER;
      transport.seek(transport.time);
    });
    room.current = element.clientWidth - GUTTER;
    watch.observe(element);
    return () => watch.disconnect();
  }, [transport]);

  useEffect(() => {
    return transport.subscribe((time) => {
      const { from, to } = current.current;
      const share = (time - from) / (to - from);
      if (head.current) {
        head.current.style.transform = `translateX(${share * room.current}px)`; // moves without laying the page out again
        head.current.style.visibility = share < 0 || share > 1 ? 'hidden' : 'visible';
      }
      if (transport.speed !== 0 && (share > 1 || share < 0)) {
        const span = to - from;
        const start = Math.min(Math.max(0, time - 0.1 * span), Math.max(0, transport.duration - span));
        onRange({ from: start, to: start + span });
      }
    });
  }, [transport, onRange, range]);

  const timeAt = useCallback(
    (clientX: number) => {
      const box = wrap.current!.getBoundingClientRect();
      const share = (clientX - box.left - GUTTER) / (wrap.current!.clientWidth - GUTTER);
      return current.current.from + share * (current.current.to - current.current.from);
    },
    [],
  );

  useEffect(() => {
    const element = wrap.current!;
    const wheel = (e: WheelEvent) => {
      if (e.clientX - element.getBoundingClientRect().left < GUTTER) return;
      const { from, to } = current.current;
      const sideways = Math.abs(e.deltaX) > Math.abs(e.deltaY) || e.shiftKey;
      if (!sideways && !e.ctrlKey && !e.altKey) return; // plain wheel scrolls the lanes
      e.preventDefault();
      const span = to - from;
      if (sideways && !e.ctrlKey) {
        const move = ((e.deltaX || e.deltaY) / (element.clientWidth - GUTTER)) * span;
        const start = Math.min(Math.max(0, from + move), Math.max(0, transport.duration - span));
        onRange({ from: start, to: start + span });
        return;
      }
      const centre = timeAt(e.clientX);
      const factor = Math.exp(e.deltaY * 0.0015);
      const next = Math.min(transport.duration, Math.max(0.25, span * factor));
      const start = Math.min(Math.max(0, centre - ((centre - from) * next) / span), transport.duration - next);
      onRange({ from: Math.max(0, start), to: Math.max(0, start) + next });
    };
    element.addEventListener('wheel', wheel, { passive: false });
    return () => element.removeEventListener('wheel', wheel);
  }, [transport, onRange, timeAt]);

  const scrub = (e: React.PointerEvent) => {
    if (e.button !== 0) return;
    const box = wrap.current!.getBoundingClientRect();
    if (e.clientX - box.left < GUTTER || e.clientX - box.left > wrap.current!.clientWidth) return;
    if ((e.target as HTMLElement).closest('button')) return;
    transport.stop();
    transport.seek(timeAt(e.clientX));
    const move = (m: PointerEvent) => transport.seek(timeAt(m.clientX));
    const up = () => {
      window.removeEventListener('pointermove', move);
      window.removeEventListener('pointerup', up);
    };
    window.addEventListener('pointermove', move);
    window.addEventListener('pointerup', up);
  };
  const at = (t: number) => `${(100 * (t - range.from)) / (range.to - range.from)}%`;
  return (
    <Wrap ref={wrap} onPointerDown={scrub} aria-label="Lanes" role="group">
      <div style={{ position: 'relative', minHeight: '100%' }}>
        <Line style={{ position: 'sticky', top: 0, zIndex: 2 }}>
          <Name>{title}</Name>
          <div style={{ background: 'inherit' }}>
            <Strip height={22} range={range} paint={(p) => drawRuler(p, labelOf)} />
          </div>
        </Line>
        {lanes.map((lane) => (
          <Line key={lane.id} data-lane={lane.id}>
            <Name style={{ height: lane.height + 2, position: 'relative' }}>
              {lane.name}
              {lane.detail && lane.height > 26 && <small>{lane.detail}</small>}
              {lane.rows && (
                <Rows style={{ lineHeight: `${lane.height / lane.rows.length}px` }}>
                  {lane.rows.map((row) => <li key={row}>{row}</li>)}
                </Rows>
              )}
            </Name>
            <div style={{ position: 'relative', height: lane.height + 2, overflow: 'hidden' }}>
              {lane.paint && <Strip height={lane.height} range={range} paint={lane.paint} onPick={lane.onPick} />}
              {lane.content?.(range)}
            </div>
          </Line>
        ))}
        <Head>
          <Shade style={{ left: 0, width: `max(0%, ${at(inOut[0])})` }} />
          <Shade style={{ left: at(inOut[1]), right: 0 }} />
          <Point style={{ left: at(inOut[0]) }} />
          <Point style={{ left: at(inOut[1]) }} />
          <div ref={head} />
        </Head>
      </div>
    </Wrap>
  );
}
