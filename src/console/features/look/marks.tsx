import Box from '@mui/material/Box';
import { visuallyHidden } from '@mui/utils';

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

/** A record that the other identity does not see at all. */
export function OnlyHere() {
  return (
    <Box component="span" sx={{ color: 'secondary.main', mr: 0.5 }}>
      <span aria-hidden>◆</span>
      <span style={visuallyHidden}>only here: </span>
    </Box>
  );
}
