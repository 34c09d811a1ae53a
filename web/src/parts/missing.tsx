import { useQuery } from '@tanstack/react-query';
import { DialogTrigger, Popover } from 'react-aria-components';
import styled, { ThemeProvider } from 'styled-components';
import type { Schemas } from '../api/client';
import { night } from '../theme';
import { Quiet, WordButton } from './controls';
import { Sheet } from './sheet';

const LOOK_MS = 20_000;

const Cell = styled.div`
  padding: 7px 14px 0;
  min-width: 90px;
  max-width: 300px;
  flex: 0 10 auto;
  white-space: nowrap;
  overflow: hidden;
  border-right: 1px solid ${night.hairline};
  small {
    display: block;
    color: ${night.wrong};
    font-size: 11px;
    line-height: 1.3;
  }
  button {
    max-width: 100%;
    overflow: hidden;
    text-overflow: ellipsis;
  }
`;

export const missing = (parts: Schemas['HealthOut']['parts']): string =>
  Object.entries(parts).filter(([, part]) => !part.good).map(([name, part]) => `${name}: ${part.words}`).join(' · ');

/**
 * What is missing of the installation, as a cell of every page's slate; nothing where everything is there. It comes and goes while people
 * work, so it pushes nothing about under their pointer; a press on it tells the whole.
 */
export function Missing() {
  const health = useQuery({
    queryKey: ['health'],
    queryFn: async (): Promise<Schemas['HealthOut']> => (await fetch('/api/health')).json(), // 503 says what is missing too
    refetchInterval: LOOK_MS,
    retry: 2,
  });
  const words = health.isError ? 'the web server does not answer' : missing(health.data?.parts ?? {});
  return words ? (
    <Cell aria-live="polite">
      <small>missing now</small>
      <DialogTrigger>
        <WordButton style={{ color: night.text, whiteSpace: 'nowrap' }}>{words}</WordButton>
        <Popover placement="bottom start">
          <ThemeProvider theme={night}>
            <Sheet aria-label="Missing now" style={{ width: 360 }}>
              <ul style={{ margin: 0, paddingLeft: 16 }}>{words.split(' · ').map((one) => <li key={one}>{one}</li>)}</ul>
              <Quiet>Whatever can be is being started again.</Quiet>
            </Sheet>
          </ThemeProvider>
        </Popover>
      </DialogTrigger>
    </Cell>
  ) : null;
}
