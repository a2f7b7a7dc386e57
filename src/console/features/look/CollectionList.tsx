import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import { Link, useLocation } from 'react-router';
import type { Overview } from '../../../client/desk.ts';

/** All collections of the rulebook; the choice of identities is kept from one to the next. */
export function CollectionList({ overview, chosen }: { overview: Overview; chosen: string }) {
  const kept = new URLSearchParams(useLocation().search);
  kept.delete('where');
  return (
    <Box
      component="nav"
      aria-label="Collections"
      sx={{ borderRight: 1, borderColor: 'divider', py: 2, overflowY: 'auto' }}
    >
      <Typography sx={{ px: 2, pb: 1, fontSize: '0.75rem', color: 'text.secondary' }}>
        Rulebook version {overview.version}
      </Typography>
      {overview.collections.map((collection) => {
        const here = collection.name === chosen;
        return (
          <Box
            key={collection.name}
            component={Link}
            to={{ pathname: `/look/${collection.name}`, search: kept.toString() }}
            aria-current={here ? 'page' : undefined}
            sx={{
              display: 'block',
              px: 2,
              py: 0.75,
              color: 'text.primary',
              textDecoration: 'none',
              borderLeft: '4px solid',
              borderLeftColor: here ? 'secondary.main' : 'transparent',
              bgcolor: here ? 'background.paper' : 'transparent',
              fontWeight: here ? 650 : 400,
              '&:hover': { bgcolor: 'background.paper' },
              '&:focus-visible': { outline: '2px solid', outlineColor: 'primary.main', outlineOffset: -2 },
            }}
          >
            {collection.name}
          </Box>
        );
      })}
    </Box>
  );
}
