import Box from '@mui/material/Box';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import type { ReactNode } from 'react';

/** The frame of the pages before the desk: signing in, and joining. */
export function DoorFrame({ title, about, children }: { title: string; about: string; children: ReactNode }) {
  return (
    <Box component="main" sx={{ display: 'grid', placeItems: 'center', minHeight: '100vh', p: 2 }}>
      <Paper
        variant="outlined"
        sx={{ width: 380, p: 4, borderTop: '4px solid', borderTopColor: 'secondary.main' }}
      >
        <Typography variant="h1" sx={{ mb: 0.5 }}>
          {title}
        </Typography>
        <Typography sx={{ color: 'text.secondary', mb: 3 }}>{about}</Typography>
        {children}
      </Paper>
    </Box>
  );
}
