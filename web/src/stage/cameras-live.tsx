import { useEffect } from 'react';
import styled, { useTheme } from 'styled-components';
import { Quiet } from '../parts/controls';
import { Picture } from './camera-picture';
import { useLive, type Live } from '../queries/live';

export type Knocked = Live['knocked'];

const Grid = styled.div`
  display: grid;
  grid-template-columns: repeat(3, 1fr);
  gap: 6px;
  span {
    display: flex;
    justify-content: space-between;
    font-size: 11px;
  }
`;

const EVERY_MS = 200; // small pictures tell who delivers; the Stage shows every one of them
const GOOD_SHARE = 0.9; // of the rate, below which a camera is called slow

/** How well the cameras deliver, in a few words. */
export function rateWords({ cameras, rate }: Pick<Live, 'cameras' | 'rate'>): string {
  const here = cameras.filter((c) => c.fps > 0);
  if (here.length === 0) return `${cameras.length} cameras, nothing to be seen just now`;
  const all = here.length === cameras.length ? `all ${cameras.length} cameras` : `${here.length} of ${cameras.length} cameras`;
  const slowest = Math.min(...here.map((c) => c.fps));
  return slowest >= GOOD_SHARE * rate ? `${all} at ${rate.toFixed(0)} Hz` : `${all}, the slowest at ${slowest.toFixed(0)} of ${rate.toFixed(0)} Hz`;
}

/** Every camera of the room as it is now: its picture, whether it delivers, whether it still stands where it should. */
export function CamerasLive({ production, onKnocked }: { production: number; onKnocked: (knocked: Knocked) => void }) {
  const theme = useTheme();
  const { live, trouble, opening } = useLive(production, EVERY_MS); // in here, so that the rest of the page is not drawn with it
  const said = JSON.stringify(live?.knocked ?? []);
  useEffect(() => onKnocked(JSON.parse(said) as Knocked), [said, onKnocked]);
  if (!live) return <p><Quiet>{trouble ?? 'waiting for the cameras…'}</Quiet></p>;
  const moved = live.knocked.map((k) => k.camera);
  return (
    <>
      <p style={{ margin: '0 0 8px' }}>
        <Quiet>{opening ? 'counting what they send…' : rateWords(live)}{live.points.length ? ` · ${live.points.length} points` : ''}</Quiet>
      </p>
      <Grid>
        {live.cameras.map((c) => (
          <div key={c.id}>
            <Picture content={{ width: 2048, height: 1536, points: c.points }} label={`Picture of camera ${c.id}`} />
            <span>
              <span style={{ color: moved.includes(c.id) ? theme.wrong : undefined }}>{moved.includes(c.id) ? '✕ ' : ''}{c.id}</span>
              <Quiet>{!opening && c.fps < GOOD_SHARE * live.rate ? `${c.fps.toFixed(0)} Hz` : ''}</Quiet>
            </span>
          </div>
        ))}
      </Grid>
    </>
  );
}
