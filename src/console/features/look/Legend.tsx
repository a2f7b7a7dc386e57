import Box from '@mui/material/Box';
import { Changeable, Deletable, Missing, OnlyHere, Withheld } from './marks.tsx';

/** What the marks mean. */
export function Legend() {
  return (
    <Box
      aria-label="Legend"
      role="note"
      sx={{ display: 'flex', gap: 3, fontSize: '0.75rem', color: 'text.secondary' }}
    >
      <span aria-hidden>
        <Withheld /> withheld from this identity
      </span>
      <span aria-hidden>
        <Missing /> no value
      </span>
      <span aria-hidden>
        <Changeable>value</Changeable> may be changed
      </span>
      <span aria-hidden>
        <Deletable /> may be deleted
      </span>
      <span aria-hidden>
        <OnlyHere />
        not readable for the other identity
      </span>
      <span>Click a cell to ask why.</span>
    </Box>
  );
}
