import Box from '@mui/material/Box';
import { visuallyHidden } from '@mui/utils';
import type { ReactNode } from 'react';

/** A value that this identity does not see: hatched, so that it is told apart without colour. */
export function Withheld() {
  return (
    <Box
      component="span"
      sx={{
        display: 'inline-block',
        width: 44,
        height: 12,
        verticalAlign: 'middle',
        borderRadius: '2px',
        border: '1px solid',
        borderColor: 'text.secondary',
        backgroundImage:
          'repeating-linear-gradient(135deg, var(--mui-palette-text-secondary) 0 1px, transparent 1px 5px)',
      }}
    >
      <span style={visuallyHidden}>withheld</span>
    </Box>
  );
}

/** A field that has no value. */
export function Missing() {
  return (
    <Box component="span" sx={{ color: 'text.secondary' }}>
      <span aria-hidden>–</span>
      <span style={visuallyHidden}>no value</span>
    </Box>
  );
}

/** A value that this identity may change: underlined with dots. */
export function Changeable({ children }: { children: ReactNode }) {
  return (
    <Box component="span" sx={{ borderBottom: '2px dotted', borderColor: 'primary.main', pb: '1px' }}>
      {children}
      <span style={visuallyHidden}> (may be changed)</span>
    </Box>
  );
}

/** A record that this identity may delete. */
export function Deletable() {
  return (
    <Box component="span" sx={{ color: 'error.main', ml: 0.75 }} title="may be deleted">
      <span aria-hidden>✕</span>
      <span style={visuallyHidden}> (may be deleted)</span>
    </Box>
  );
}

/** A record that the other identity does not see at all. */
export function OnlyHere() {
  return (
    <Box component="span" sx={{ color: 'secondary.main', mr: 0.5 }}>
      <span aria-hidden>◆</span>
      <span style={visuallyHidden}>only here: </span>
    </Box>
  );
}
