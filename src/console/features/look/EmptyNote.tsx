import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import type { Emptiness } from '../../../client/desk.ts';

const headings: Readonly<Record<Emptiness['reason'], string>> = {
  'no rule': 'Closed: there is no rule',
  'no rule for these roles': 'No rule speaks of this identity',
  'no record': 'There are no records',
  'no match': 'The rules match none of the records',
  filtered: 'The filter leaves nothing over',
  'signed out': 'Deactivated',
};

/** Why a list is empty, and what to do next: for the developer, never for an end user. */
export function EmptyNote({ emptiness }: { emptiness: Emptiness }) {
  return (
    <Box data-testid="emptiness" sx={{ p: 3, maxWidth: 460 }}>
      <Typography variant="h2" sx={{ mb: 1 }}>
        {headings[emptiness.reason]}
      </Typography>
      <Typography sx={{ mb: 1 }}>{emptiness.explanation}</Typography>
      <Typography sx={{ color: 'text.secondary' }}>{emptiness.next}</Typography>
    </Box>
  );
}
