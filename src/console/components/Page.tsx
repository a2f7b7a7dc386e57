import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import type { ReactNode } from 'react';

/** A page with a title, what it is about, and its content below. */
export function Page({ title, about, children }: { title: ReactNode; about: string; children: ReactNode }) {
  return (
    <Box component="main" sx={{ height: '100%', overflow: 'auto' }}>
      <Box sx={{ p: 2, display: 'flex', flexDirection: 'column', gap: 2 }}>
        <Box>
          <Typography variant="h1">{title}</Typography>
          <Typography sx={{ color: 'text.secondary', fontSize: '0.85rem', maxWidth: 760 }}>
            {about}
          </Typography>
        </Box>
        {children}
      </Box>
    </Box>
  );
}
