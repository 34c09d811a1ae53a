import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { Link, NavLink } from 'react-router';
import styled, { createGlobalStyle, ThemeProvider } from 'styled-components';
import { post, type Me } from '../api/client';
import type { Theme } from '../theme';
import { night } from '../theme';
import { WordButton } from './controls';
import { Missing } from './missing';
import { OwnPassword } from './own-password';

const Global = createGlobalStyle`
  * { box-sizing: border-box; scrollbar-width: thin; scrollbar-color: ${(p) => p.theme.scrollbar} transparent; }
  html, body, #root { height: 100%; margin: 0; }
  html { color-scheme: ${(p) => (p.theme.name === 'night' ? 'dark' : 'light')}; }
  body {
    background: ${(p) => p.theme.ground};
    color: ${(p) => p.theme.text};
    font-family: ${(p) => p.theme.sans};
    font-size: ${(p) => p.theme.size.body};
    line-height: 1.4;
  }
  a { color: inherit; }
  :focus-visible { outline: 2px solid ${(p) => p.theme.selection}; outline-offset: 2px; }
  h1, h2, h3 { font-weight: 700; }
`;

const Slate = styled.header`
  display: flex;
  align-items: stretch;
  height: 52px;
  background: ${night.ground};
  color: ${night.text};
  border-bottom: 1px solid ${night.hairline};
  flex: none;
  min-width: 0;
`;

const Cell = styled.div`
  padding: 7px 16px 0 14px;
  border-right: 1px solid ${night.hairline};
  min-width: 0;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
  small {
    display: block;
    color: ${night.quiet};
    font-size: 11px;
    line-height: 1.3;
    max-width: 150px;
    overflow: hidden;
    text-overflow: ellipsis;
  }
`;

const Shrink = styled(Cell)`
  flex: 0 1 auto;
`;

const Places = styled.nav`
  margin-left: auto;
  display: flex;
  align-items: stretch;
  padding: 0 8px;
  a {
    display: flex;
    align-items: center;
    padding: 0 11px;
    color: ${night.quiet};
    text-decoration: none;
    border-bottom: 3px solid transparent;
  }
  a:hover {
    color: ${night.text};
  }
  a.active {
    color: ${night.text};
    border-bottom-color: ${night.selection};
  }
`;

const Who = styled(Cell)`
  flex: none; /* signing out is never cut off */
  border-left: 1px solid ${night.hairline};
  border-right: 0;
`;

const Page = styled.div`
  min-height: 100%;
  height: 100%;
  display: flex;
  flex-direction: column;
`;

const Body = styled.main`
  position: relative; /* what is hidden for screen readers only scrolls with it, not the page around it */
  flex: 1;
  min-height: 0;
  overflow: auto;
`;

/** whole: too short to be cut off where there is little room. */
export type SlateCell = { what: string; value: ReactNode; whole?: boolean };

export type FrameProps = {
  theme: Theme;
  me: Me;
  /** Null where there is none: the page is about the whole installation. */
  productionId: number | null;
  cells: SlateCell[];
  benchTake?: number;
  right?: ReactNode;
  children: ReactNode;
};

const PLACES = [
  ['shoot', 'Shoot'],
  ['stage', 'Stage'],
  ['cast', 'Cast'],
  ['floor', 'Floor'],
] as const;

/** The slate along the top, the place under it. */
export function Frame({ theme, me, productionId, cells, benchTake, right, children }: FrameProps) {
  const client = useQueryClient();
  const out = useMutation({ mutationFn: () => post('/sign-out'), onSettled: () => client.invalidateQueries({ queryKey: ['me'] }) });
  const role = me.memberships.find((m) => m.production_id === productionId)?.role ?? '';
  const desk = role !== 'animator';
  return (
    <ThemeProvider theme={theme}>
      <Global />
      <Page>
        <Slate>
          {cells.map((c) => (
            <Shrink key={c.what} style={c.whole ? { flexShrink: 0 } : undefined}>
              <small>{c.what}</small>
              {c.value}
            </Shrink>
          ))}
          {desk && <Missing />}
          <Places aria-label="Places">
            {me.administrator && <NavLink to="/administration">Administration</NavLink>}
            {productionId !== null && desk && PLACES.map(([path, name]) => <NavLink key={path} to={`/p/${productionId}/${path}`}>{name}</NavLink>)}
            {productionId !== null && desk && (benchTake ? <NavLink to={`/p/${productionId}/bench/${benchTake}`}>Bench</NavLink> : <NavLink to={`/p/${productionId}/bench`}>Bench</NavLink>)}
            {productionId !== null && <NavLink to={`/p/${productionId}/handover`}>Handover</NavLink>}
          </Places>
          {right}
          <Who>
            <small>{role}</small>
            {me.name}{' '}
            <OwnPassword />{' '}
            <WordButton style={{ color: night.quiet, fontSize: 11 }} onPress={() => out.mutate()}>
              sign out
            </WordButton>
          </Who>
        </Slate>
        <Body>{children}</Body>
      </Page>
    </ThemeProvider>
  );
}

export { Global, Link };
