import Box from '@mui/material/Box';
import CircularProgress from '@mui/material/CircularProgress';
import { Navigate, Route, Routes, useMatch } from 'react-router';
import { isSignedOut } from './api/client.ts';
import { useSession } from './api/session.ts';
import { ErrorNote } from './components/ErrorNote.tsx';
import { AuditPage } from './features/audit/AuditPage.tsx';
import { LookPage } from './features/look/LookPage.tsx';
import { PeoplePage } from './features/people/PeoplePage.tsx';
import { PersonPage } from './features/people/PersonPage.tsx';
import { SweepPage } from './features/sweep/SweepPage.tsx';
import { TrialsPage } from './features/trials/TrialsPage.tsx';
import { JoinPage } from './features/sign-in/JoinPage.tsx';
import { SignInPage } from './features/sign-in/SignInPage.tsx';
import { Shell } from './components/Shell.tsx';

/** Staff sign in first; everything else is behind that. */
export function App() {
  const session = useSession();
  const isJoining = useMatch('/join') !== null;
  if (isJoining) return <JoinPage />;
  if (session.isPending) {
    return (
      <Box sx={{ display: 'grid', placeItems: 'center', minHeight: '100vh' }}>
        <CircularProgress aria-label="Loading" />
      </Box>
    );
  }
  if (session.isError) {
    if (isSignedOut(session.error)) return <SignInPage />;
    return (
      <Box sx={{ maxWidth: 560, mx: 'auto', mt: 12 }}>
        <ErrorNote error={session.error} retry={() => void session.refetch()} />
      </Box>
    );
  }
  return (
    <Shell session={session.data}>
      <Routes>
        <Route path="/look/:collection?" element={<LookPage />} />
        <Route path="/trials" element={<TrialsPage />} />
        <Route path="/sweep" element={<SweepPage />} />
        <Route path="/people" element={<PeoplePage />} />
        <Route path="/people/:person" element={<PersonPage />} />
        <Route path="/audit" element={<AuditPage />} />
        <Route path="*" element={<Navigate to="/look" replace />} />
      </Routes>
    </Shell>
  );
}
