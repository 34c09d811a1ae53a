import styled, { useTheme } from 'styled-components';
import type { FloorOut } from '../api/client';
import { Figure } from '../parts/controls';
import { useLive, type LiveDevice } from '../queries/live';

const Device = styled.div`
  display: grid;
  grid-template-columns: 20px 1fr auto;
  padding: 9px 16px;
  min-height: 44px;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  small {
    grid-column: 2 / -1;
    color: ${(p) => p.theme.quiet};
  }
`;

const EVERY_MS = 500; // nobody reads figures faster
const GOOD_SHARE = 0.9; // of the rate, below which a device is called slow

/** How a device is doing, in a few words, and whether that is well. opening: its rate has not been counted yet. */
export function deviceWords(live: LiveDevice | undefined, rateHz: number, opening: boolean): { words: string; well: boolean } {
  if (live?.trouble) return { words: live.trouble, well: false };
  if (!live || opening || live.waited_for) return { words: 'waiting for it…', well: false };
  if (live.hz === 0) return { words: 'nothing received just now', well: false };
  const lost = live.lost ? `${live.lost} lost` : 'nothing lost';
  if (live.hz < GOOD_SHARE * rateHz) return { words: `slow · ${lost}`, well: false };
  if (live.answering < 1) return { words: `${Math.round(100 * live.answering)} % of it answers · ${lost}`, well: live.answering > 0.5 };
  return { words: `receiving · ${lost}`, well: true };
}

const hertz = (hz: number) => (hz >= 1000 ? `${(hz / 1000).toFixed(1)} kHz` : `${hz.toFixed(0)} Hz`);

/** Every device of a performer's kit and of the room as it is received now. */
export function DevicesLive({ production, kit, performer }: { production: number; kit: FloorOut['devices']; performer: string }) {
  const theme = useTheme();
  const { live, trouble, opening } = useLive(production, EVERY_MS); // in here, so that the rest of the page is not drawn with it
  return (
    <>
      {kit.map((d) => {
        const now = live?.devices?.find((x) => x.id === d.id && (!d.worn || x.performer === performer));
        const { words, well } = live || !trouble ? deviceWords(now, d.rate_hz, opening) : { words: trouble, well: false };
        const counted = now && ((!opening && !now.waited_for) || now.trouble) ? now : null;
        return (
          <Device key={d.id}>
            <span aria-hidden="true" style={{ color: well ? theme.good : counted ? theme.wrong : theme.quiet }}>{well ? '●' : '○'}</span>
            <span>{d.words}</span>
            <Figure>{counted ? hertz(counted.hz) : '–'}</Figure>
            <small>{words}</small>
          </Device>
        );
      })}
    </>
  );
}
