import Box from '@mui/material/Box';
import CircularProgress from '@mui/material/CircularProgress';
import { Suspense, lazy, type ComponentType } from 'react';
import { Navigate, Route, Routes, useLocation, useMatch } from 'react-router';
import { isSignedOut } from './api/client.ts';
import { useSession } from './api/session.ts';
import { ErrorNote } from './components/ErrorNote.tsx';
import { JoinPage } from './features/sign-in/JoinPage.tsx';
import { SignInPage } from './features/sign-in/SignInPage.tsx';
import { Boundary } from './components/Boundary.tsx';
import { Shell } from './components/Shell.tsx';

// Each page is fetched when it is opened: what signs in is small.
const page = <T extends string>(fetched: Promise<Record<T, ComponentType>>, name: T) =>
  fetched.then((module) => ({ default: module[name] }));
const StartPage = lazy(() => page(import('./features/start/StartPage.tsx'), 'StartPage'));
const BenchPage = lazy(() => page(import('./features/bench/BenchPage.tsx'), 'BenchPage'));
const ChangesPage = lazy(() => page(import('./features/changes/ChangesPage.tsx'), 'ChangesPage'));
const CollectionsPage = lazy(() =>
  page(import('./features/collections/CollectionsPage.tsx'), 'CollectionsPage'),
);
const LookPage = lazy(() => page(import('./features/look/LookPage.tsx'), 'LookPage'));
const TrialsPage = lazy(() => page(import('./features/trials/TrialsPage.tsx'), 'TrialsPage'));
const SweepPage = lazy(() => page(import('./features/sweep/SweepPage.tsx'), 'SweepPage'));
const GuardsPage = lazy(() => page(import('./features/guards/GuardsPage.tsx'), 'GuardsPage'));
const HousePage = lazy(() => page(import('./features/house/HousePage.tsx'), 'HousePage'));
const InterfacesPage = lazy(() => page(import('./features/house/InterfacesPage.tsx'), 'InterfacesPage'));
const PeoplePage = lazy(() => page(import('./features/people/PeoplePage.tsx'), 'PeoplePage'));
const PersonPage = lazy(() => page(import('./features/people/PersonPage.tsx'), 'PersonPage'));
const AuditPage = lazy(() => page(import('./features/audit/AuditPage.tsx'), 'AuditPage'));

/** Staff sign in first; everything else is behind that. */
export function App() {
  const session = useSession();
  const isJoining = useMatch('/join') !== null;
  const { pathname } = useLocation();
  if (isJoining) return <JoinPage />;
  if (session.isPending) {
    return (
      <Box sx={{ display: 'grid', placeItems: 'center', minHeight: '100vh' }}>
        <CircularProgress aria-label="Loading" />
      </Box>
    );
  }
  if (isSignedOut(session.error)) return <SignInPage />;
  // A service that is gone for a while takes no page away from whoever is at it.
  if (session.data === undefined) {
    return (
      <Box sx={{ maxWidth: 560, mx: 'auto', mt: 12 }}>
        <ErrorNote error={session.error} retry={() => void session.refetch()} />
      </Box>
    );
  }
  return (
    <Shell session={session.data}>
      <Boundary key={pathname.split('/')[1]}>
        <Suspense fallback={<CircularProgress aria-label="Loading" sx={{ m: 6 }} />}>
          <Routes>
            <Route path="/start" element={<StartPage />} />
            <Route path="/bench/:collection?" element={<BenchPage />} />
            <Route path="/changes" element={<ChangesPage />} />
            <Route path="/collections/:collection?" element={<CollectionsPage />} />
            <Route path="/look/:collection?" element={<LookPage />} />
            <Route path="/trials" element={<TrialsPage />} />
            <Route path="/sweep" element={<SweepPage />} />
            <Route path="/guards" element={<GuardsPage />} />
            <Route path="/house" element={<HousePage />} />
            <Route path="/house/interfaces/:kind?" element={<InterfacesPage />} />
            <Route path="/people" element={<PeoplePage />} />
            <Route path="/people/:person" element={<PersonPage />} />
            <Route path="/audit" element={<AuditPage />} />
            <Route path="*" element={<Navigate to="/start" replace />} />
          </Routes>
        </Suspense>
      </Boundary>
    </Shell>
  );
}
