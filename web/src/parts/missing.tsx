import { useQuery } from '@tanstack/react-query';
import styled from 'styled-components';
import type { Schemas } from '../api/client';
import { night } from '../theme';

const LOOK_MS = 20_000;

const Line = styled.p`
  margin: 0;
  padding: 4px 14px;
  background: ${night.raised};
  color: ${night.text};
  border-bottom: 1px solid ${night.hairline};
  flex: none;
`;

export const missing = (parts: Schemas['HealthOut']['parts']): string =>
  Object.entries(parts).filter(([, part]) => !part.good).map(([name, part]) => `${name}: ${part.words}`).join(' · ');

/** What is missing of the installation, under the slate of every page; nothing where everything is there. */
export function Missing() {
  const health = useQuery({
    queryKey: ['health'],
    queryFn: async (): Promise<Schemas['HealthOut']> => (await fetch('/api/health')).json(), // 503 says what is missing too
    refetchInterval: LOOK_MS,
    retry: 2,
  });
  const words = health.isError ? 'the web server does not answer' : missing(health.data?.parts ?? {});
  return words ? <Line aria-live="polite">Missing now, and being started again where it can be: {words}</Line> : null;
}
