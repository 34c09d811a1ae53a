import styled, { useTheme } from 'styled-components';
import type { Schemas } from '../api/client';
import type { Camera } from '../optics/lens';
import type { Sweep } from '../queries/live';

const Drawing = styled.svg`
  width: 100%;
  height: 100%;
  display: block;
  text {
    font-family: ${(p) => p.theme.mono};
    text-anchor: middle;
    dominant-baseline: central;
    fill: ${(p) => p.theme.text};
  }
`;

type Props = {
  plan: Schemas['PlanOut'] | undefined;
  show: 'cameras' | 'accuracy';
  cameras: Camera[];
  selected: string | null;
  onSelect: (camera: string) => void;
  sweep: Sweep | null;
  names: string[];
  points: number[][];
};

const REACH: [number, number] = [5.1, 4.6]; // shown at least, to either side and to front and back
const MARGIN = 0.65;

/** The room from above: +X to the right, the front (+Z) down, as the performer faces the reader. */
export function Plan({ plan, show, cameras, selected, onSelect, sweep, names, points }: Props) {
  const theme = useTheme();
  const step = plan ? plan.x_m[1] - plan.x_m[0] : 0.5;
  const shown = plan && !sweep;
  const most = Math.max(1, cameras.length);
  const places: [string, number[]][] = sweep
    ? names.flatMap((n, i) => (sweep.positions_m[i] ? [[n, sweep.positions_m[i]!] as [string, number[]]] : []))
    : cameras.map((c) => [c.id, c.position]);
  const [x0, x1, z0, z1] = places.reduce(
    ([a, b, c, d], [, p]) => [Math.min(a, p[0] - MARGIN), Math.max(b, p[0] + MARGIN), Math.min(c, p[2] - MARGIN), Math.max(d, p[2] + MARGIN)],
    [-REACH[0], REACH[0], -REACH[1], REACH[1]],
  );
  return (
    <Drawing viewBox={`${x0} ${z0} ${x1 - x0} ${z1 - z0}`} role="img"
      aria-label={shown ? `Plan of the room: ${show === 'cameras' ? 'cameras that see each place' : 'expected accuracy'} at ${plan.height_m.toFixed(1)} metres` : 'Plan of the room while sweeping'}>
      {shown &&
        plan.z_m.flatMap((z, j) =>
          plan.x_m.map((x, i) => {
            const count = plan.cameras[j][i];
            const sd = plan.sd_mm[j][i];
            const share = show === 'cameras' ? count / most : sd === null ? 0 : Math.max(0, Math.min(1, 1 - Math.log10(sd / 0.05) / 1.6));
            const words = show === 'cameras' ? (count ? String(count) : '') : sd === null ? '' : sd < 9.95 ? sd.toFixed(sd < 0.995 ? 2 : 1) : '>10';
            return (
              <g key={`${i} ${j}`}>
                <rect x={x - step / 2} y={z - step / 2} width={step} height={step} fill={theme.selection} fillOpacity={0.03 + 0.42 * share} stroke={theme.ground} strokeWidth={0.015} />
                <text x={x} y={z} fontSize={show === 'cameras' ? 0.2 : 0.155} opacity={words ? 1 : 0}>{words}</text>
              </g>
            );
          }),
        )}
      {sweep && (
        <>
          {sweep.wanted.map(([x, , z, n], i) => (
            <rect key={i} x={x - 0.16} y={z - 0.16} width={0.32} height={0.32} fill="none" stroke={theme.wrong} strokeWidth={0.012} opacity={Math.min(0.7, 0.12 * n)} />
          ))}
          {sweep.been_m.map(([x, , z], i) => (
            <circle key={i} cx={x} cy={z} r={0.035} fill={theme.good} opacity={0.55} />
          ))}
          {sweep.go_to_m && (
            <g>
              <circle cx={sweep.go_to_m[0]} cy={sweep.go_to_m[2]} r={0.42} fill="none" stroke={theme.text} strokeWidth={0.05} strokeDasharray="0.16 0.1" />
              <text x={sweep.go_to_m[0]} y={sweep.go_to_m[2] - 0.58} fontSize={0.24}>go here</text>
            </g>
          )}
        </>
      )}
      {!sweep && (
        <g stroke={theme.text} strokeWidth={0.035} fill="none">
          <path d="M 0 0 L 0 0.62 M -0.12 0.45 L 0 0.64 L 0.12 0.45" />
          <circle r={0.07} fill={theme.ground} />
          <text y={0.82} fontSize={0.17} stroke="none">front</text>
        </g>
      )}
      {points.map(([x, , z], i) => (
        <circle key={i} cx={x} cy={z} r={0.045} fill={theme.marker} stroke={theme.ground} strokeWidth={0.015} />
      ))}
      {places.map(([name, p]) => {
        const out = Math.hypot(p[0], p[2]) || 1;
        const mine = name === selected;
        return (
          <g key={name} role="button" tabIndex={0} aria-label={`Camera ${name}`} style={{ cursor: 'pointer' }} onClick={() => onSelect(name)}
            onKeyDown={(e) => e.key === 'Enter' && onSelect(name)}>
            <path transform={`translate(${p[0]} ${p[2]}) rotate(${(Math.atan2(-p[2], -p[0]) * 180) / Math.PI})`} d="M -0.14 -0.1 L 0.1 -0.1 L 0.1 0.1 L -0.14 0.1 Z M 0.1 0 L 0.26 -0.12 L 0.26 0.12 Z"
              fill={mine ? theme.selection : theme.raised} stroke={mine ? theme.selection : theme.text} strokeWidth={0.03} />
            <text x={p[0] * (1 + 0.36 / out)} y={p[2] * (1 + 0.36 / out)} fontSize={0.22}>{name}</text>
          </g>
        );
      })}
    </Drawing>
  );
}
