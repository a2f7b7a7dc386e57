import { memo } from 'react';
import Box from '@mui/material/Box';
import { OneMark, markStyles, type PlaceState } from '../../components/marks.tsx';

const mark = (shape: PlaceState['shape'], turn: { gained?: boolean; lost?: boolean } = {}): PlaceState => ({
  shape,
  gained: turn.gained === true,
  lost: turn.lost === true,
});

const told: readonly (readonly [PlaceState, string])[] = [
  [mark('sees'), 'sees'],
  [mark('changes'), 'sees, may change'],
  [mark('blind'), 'may change unseen'],
  [mark('none'), 'does not'],
  [mark('deletes'), 'may delete'],
  [mark('acts'), 'acts'],
  [mark('sees', { gained: true }), 'gained'],
  [mark('none', { lost: true }), 'lost'],
];

/** What the marks mean, in as little room as they take. */
export const MarkLegend = memo(function MarkLegend() {
  return (
    <Box
      component="ul"
      aria-label="What the marks mean"
      sx={{
        display: 'flex',
        flexWrap: 'wrap',
        columnGap: 1.25,
        m: 0,
        p: 0,
        listStyle: 'none',
        fontSize: '0.74rem',
        color: 'text.secondary',
        ...markStyles,
      }}
    >
      {told.map(([state, words]) => (
        <Box
          component="li"
          key={words}
          sx={{ display: 'flex', alignItems: 'center', gap: 0.25, whiteSpace: 'nowrap' }}
        >
          <OneMark {...state} />
          {words}
        </Box>
      ))}
      <Box component="li" sx={{ display: 'flex', alignItems: 'center', gap: 0.5, whiteSpace: 'nowrap' }}>
        <Box
          component="span"
          sx={{
            width: 26,
            height: 10,
            border: '1px solid var(--mui-palette-text-secondary)',
            borderRadius: '2px',
            backgroundImage:
              'repeating-linear-gradient(135deg, var(--mui-palette-text-secondary) 0 1px, transparent 1px 5px)',
          }}
        />
        withheld
      </Box>
    </Box>
  );
});
