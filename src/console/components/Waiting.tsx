import Box from '@mui/material/Box';
import Skeleton from '@mui/material/Skeleton';

/** Stands where a page with sentences and records is about to be, of about its shape: nothing jumps when it comes. */
export function Waiting() {
  return (
    <Box
      role="status"
      aria-label="Loading"
      sx={{ display: 'grid', gridTemplateColumns: '380px 1fr', gap: 1.5, p: 1.5, height: '100%' }}
    >
      <Box sx={{ display: 'grid', gap: 1, alignContent: 'start' }}>
        {[72, 54, 54, 72, 54].map((height, index) => (
          <Skeleton key={index} variant="rounded" height={height} />
        ))}
      </Box>
      <Skeleton variant="rounded" height="100%" />
    </Box>
  );
}
