import Box from '@mui/material/Box';
import { NavLink } from 'react-router';

/** The addresses of proof, in the order in which it is gone through. */
export const proofs = [
  { to: '/trials', name: 'Trials' },
  { to: '/sweep', name: 'Sweep' },
  { to: '/guards', name: 'What no trial guards' },
] as const;

/** Between the parts of proof. */
export function ProofNav() {
  return (
    <Box component="nav" aria-label="Proof" sx={{ display: 'flex', gap: 0.5, px: 2, pt: 1.5 }}>
      {proofs.map(({ to, name }) => (
        <Box
          key={to}
          component={NavLink}
          to={to}
          sx={{
            color: 'text.primary',
            textDecoration: 'none',
            fontSize: '0.85rem',
            px: 1.25,
            py: 0.5,
            border: 1,
            borderColor: 'divider',
            borderRadius: 1,
            '&.active': { bgcolor: 'background.paper', borderColor: 'secondary.main', fontWeight: 650 },
            '&:focus-visible': { outline: '2px solid', outlineColor: 'primary.main' },
          }}
        >
          {name}
        </Box>
      ))}
    </Box>
  );
}
