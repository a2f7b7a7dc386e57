import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { NavLink, useLocation } from 'react-router';
import type { SessionDocument } from '../../client/desk.ts';
import { gate } from '../api/client.ts';
import { FRAME } from '../theme.ts';
import { proofs } from './ProofNav.tsx';
import { Palette } from './Palette.tsx';
import { AccountMenu } from './AccountMenu.tsx';
import { UnlockControl } from '../features/unlock/UnlockControl.tsx';

const pages = [
  { to: '/start', name: 'Start' },
  { to: '/bench', name: 'Bench' },
  { to: '/collections', name: 'Collections' },
  { to: '/people', name: 'People' },
  { to: '/trials', name: 'Proof' },
  { to: '/changes', name: 'Changes' },
  { to: '/audit', name: 'Trail' },
  { to: '/house', name: 'House' },
];

/** The page that is open is underlined, and told as the current one. */
function PageLink({ to, name }: { to: string; name: string }) {
  const { pathname } = useLocation();
  // Proof has several pages.
  const isHere = name === 'Proof' && proofs.some((each) => pathname === each.to);
  return (
    <Box
      component={NavLink}
      to={to}
      {...(isHere ? { className: 'active' } : {})}
      sx={{
        color: 'inherit',
        textDecoration: 'none',
        px: { xs: 0.75, lg: 1.25 },
        py: 0.5,
        fontSize: '0.85rem',
        borderBottom: '2px solid transparent',
        '&.active': { borderBottomColor: FRAME.honey, fontWeight: 650 },
        '&:focus-visible': { outline: `2px solid ${FRAME.honey}` },
      }}
    >
      {name}
    </Box>
  );
}

/** The frame around every page: whose desk this is, and the way out. */
export function Shell({ session, children }: { session: SessionDocument; children: ReactNode }) {
  const queries = useQueryClient();
  const signOut = useMutation({
    mutationFn: () => gate.signOut(),
    // Everything that was on screen is forgotten, and the session asked for again: that leads to the sign-in page.
    onSettled: () => queries.resetQueries(),
  });
  return (
    <Box sx={{ display: 'flex', flexDirection: 'column', height: '100vh' }}>
      <Box
        component="header"
        sx={{
          display: 'flex',
          alignItems: 'center',
          gap: { xs: 1, lg: 2 },
          px: 2,
          height: 44,
          bgcolor: FRAME.moss,
          color: FRAME.paper,
          borderBottom: `3px solid ${FRAME.honey}`,
        }}
      >
        <Typography component="span" noWrap sx={{ flexShrink: 0, fontWeight: 700, letterSpacing: '0.02em' }}>
          Firm Gate
        </Typography>
        <Box
          component="nav"
          aria-label="Pages"
          sx={{ display: 'flex', flexShrink: 0, flexGrow: 1, gap: 0.25, ml: 1 }}
        >
          {pages.map(({ to, name }) => (
            <PageLink key={to} to={to} name={name} />
          ))}
        </Box>
        {session.development && (
          <Typography
            component="span"
            noWrap
            title="The development issuer is on: whoever has the development key can call as any test identity, and as a manager. Never in production."
            sx={{
              flexShrink: 0,
              fontSize: '0.72rem',
              fontWeight: 650,
              px: 0.75,
              border: `1px solid ${FRAME.honey}`,
              borderRadius: 1,
            }}
          >
            ⚠
            <Box component="span" sx={{ display: { xs: 'none', lg: 'inline' } }}>
              {' '}
              development
            </Box>
          </Typography>
        )}
        <Palette pages={[...pages, { to: '/house/interfaces', name: 'Interfaces' }]} />
        <UnlockControl session={session} />
        <AccountMenu session={session} onSignOut={() => signOut.mutate()} />
      </Box>
      <Box sx={{ flex: 1, minHeight: 0 }}>{children}</Box>
    </Box>
  );
}
