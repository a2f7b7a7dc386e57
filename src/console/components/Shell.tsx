import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Typography from '@mui/material/Typography';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { NavLink } from 'react-router';
import { gate } from '../api/client.ts';

const pages = [
  { to: '/look', name: 'Look' },
  { to: '/trials', name: 'Trials' },
  { to: '/sweep', name: 'Sweep' },
];

/** The page that is open is underlined, and told as the current one. */
function PageLink({ to, name }: { to: string; name: string }) {
  return (
    <Box
      component={NavLink}
      to={to}
      sx={{
        color: 'inherit',
        textDecoration: 'none',
        px: 1.25,
        py: 0.5,
        fontSize: '0.85rem',
        borderBottom: '2px solid transparent',
        '&.active': { borderBottomColor: '#e9b44c', fontWeight: 650 },
        '&:focus-visible': { outline: '2px solid #e9b44c' },
      }}
    >
      {name}
    </Box>
  );
}

/** The frame around every page: whose desk this is, and the way out. */
export function Shell({ staff, children }: { staff: string; children: ReactNode }) {
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
          gap: 2,
          px: 2,
          height: 44,
          bgcolor: '#24423a',
          color: '#f6f3ec',
          borderBottom: '3px solid #e9b44c',
        }}
      >
        <Typography component="span" sx={{ fontWeight: 700, letterSpacing: '0.02em' }}>
          Firm Gate
        </Typography>
        <Box component="nav" aria-label="Pages" sx={{ display: 'flex', gap: 0.5, ml: 2, flex: 1 }}>
          {pages.map(({ to, name }) => (
            <PageLink key={to} to={to} name={name} />
          ))}
        </Box>
        <Typography component="span" sx={{ fontSize: '0.8rem' }}>
          {staff}
        </Typography>
        <Button size="small" color="inherit" variant="outlined" onClick={() => signOut.mutate()}>
          Sign out
        </Button>
      </Box>
      <Box sx={{ flex: 1, minHeight: 0 }}>{children}</Box>
    </Box>
  );
}
