import { useQuery } from '@tanstack/react-query';
import { lazy, Suspense, useEffect } from 'react';
import { Link, Navigate, Outlet, Route, Routes, useLocation, useParams } from 'react-router';
import { ThemeProvider } from 'styled-components';
import { get, ServerError, type Me } from './api/client';
import { Empty, Trouble } from './parts/controls';
import { Frame, Global } from './parts/frame';
import { Panel } from './parts/panel';
import { Cast } from './places/cast';
import { Floor } from './places/floor';
import { Handover } from './places/handover';
import { Shoot } from './places/shoot';
import { SignIn } from './places/sign-in';
import { Welcome } from './places/welcome';
import { PushedProvider, useChanges } from './queries/push';
import { useBoard } from './queries/production';
import { night, paper } from './theme';

// three.js is only needed where something is played
const fetchBench = () => import('./places/bench');
const Bench = lazy(() => fetchBench().then((m) => ({ default: m.Bench })));
const Stage = lazy(() => import('./places/stage').then((m) => ({ default: m.Stage })));
const Administration = lazy(() => import('./places/administration').then((m) => ({ default: m.Administration })));
const StoragePage = lazy(() => import('./places/storage').then((m) => ({ default: m.StoragePage })));
const PackagePage = lazy(() => import('./places/package').then((m) => ({ default: m.PackagePage })));

function Waiting() {
  return <p style={{ padding: 24 }}>Loading…</p>;
}

/** The places of one production, for those who are part of it; the others are told which are theirs. */
function Member({ me }: { me: Me }) {
  const production = Number(useParams().production);
  const { pathname } = useLocation();
  const pushed = useChanges(production);
  if (me.memberships.some((m) => m.production_id === production)) return <PushedProvider value={pushed}><Panel at={pathname} name="This place"><Outlet /></Panel></PushedProvider>;
  return (
    <Frame theme={paper} me={me} productionId={me.memberships[0]?.production_id ?? null} cells={[{ what: 'production', value: 'not yours' }]}>
      <Empty style={{ margin: 28 }}>
        <h2>You are not part of this production</h2>
        <p>Ask an administrator to add {me.name}, or go on with yours:</p>
        {me.memberships.map((m) => (
          <p key={m.production_id}><Link to={`/p/${m.production_id}/${m.role === 'animator' ? 'handover' : 'shoot'}`}>{m.production}</Link></p>
        ))}
      </Empty>
    </Frame>
  );
}

/** The Bench without a take: the newest ones are offered, the last one first. */
function NoTake({ me }: { me: Me }) {
  const { production } = useParams();
  const board = useBoard(Number(production));
  const newest = board.data?.newest ?? [];
  return (
    <Frame theme={night} me={me} productionId={Number(production)} cells={[{ what: 'bench', value: 'no take' }]}>
      <div style={{ padding: 28 }}>
        <Empty>
          <h2>No take on the bench</h2>
          {newest.map((t, i) => (
            <p key={t.id}><Link to={`/p/${production}/bench/${t.id}`} autoFocus={i === 0}>Slate {t.slate} take {t.number}</Link>, {t.title}{i === 0 ? ' (the last one)' : ''}</p>
          ))}
          <p>{newest.length ? 'Or open another' : 'Open one'} from the board in <Link to={`/p/${production}/shoot`}>Shoot</Link>: pick a take and press Enter, or click its number.</p>
        </Empty>
      </div>
    </Frame>
  );
}

export function App() {
  const me = useQuery({ queryKey: ['me'], queryFn: () => get<Me>('/me'), staleTime: 60000 });
  const signedIn = me.isSuccess;
  useEffect(() => {
    if (!signedIn) return undefined;
    const timer = window.setTimeout(() => void fetchBench(), 1200); // the first click on a take must not wait for it
    return () => window.clearTimeout(timer);
  }, [signedIn]);
  if (me.isPending || (me.isError && !(me.error instanceof ServerError && me.error.status === 401))) {
    return (
      <ThemeProvider theme={paper}>
        <Global />
        {me.isError ? <Trouble error={me.error} /> : <Waiting />}
      </ThemeProvider>
    );
  }
  if (me.isError) return <Routes><Route path="/welcome/:user/:token" element={<Welcome />} /><Route path="*" element={<SignIn />} /></Routes>;
  const first = me.data.memberships[0];
  if (!first && !me.data.administrator) {
    return (
      <ThemeProvider theme={paper}>
        <Global />
        <Empty style={{ margin: 40 }}>
          <h2>You are not part of a production yet</h2>
          <p>Ask an administrator to add {me.data.name} to one.</p>
        </Empty>
      </ThemeProvider>
    );
  }
  const home = first ? `/p/${first.production_id}/${first.role === 'animator' ? 'handover' : 'shoot'}` : '/administration';
  const props = { me: me.data };
  return (
    <Suspense
      fallback={
        <ThemeProvider theme={night}>
          <Global />
          <Waiting />
        </ThemeProvider>
      }
    >
      <Routes>
        <Route path="/p/:production" element={<Member {...props} />}>
          <Route path="shoot" element={<Shoot {...props} />} />
          <Route path="stage/:step?" element={<Stage {...props} />} />
          <Route path="cast" element={<Cast {...props} />} />
          <Route path="floor/:slate?" element={<Floor {...props} />} />
          <Route path="bench" element={<NoTake {...props} />} />
          <Route path="bench/:take" element={<Bench {...props} />} />
          <Route path="storage" element={<StoragePage {...props} />} />
          <Route path="handover" element={<Handover {...props} />} />
          <Route path="handover/:package" element={<PackagePage {...props} />} />
        </Route>
        {me.data.administrator && <Route path="/administration" element={<Panel name="This place"><Administration {...props} /></Panel>} />}
        <Route path="/welcome/:user/:token" element={<Welcome />} />
        <Route path="*" element={<Navigate to={home} replace />} />
      </Routes>
    </Suspense>
  );
}
