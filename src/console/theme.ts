import { createTheme } from '@mui/material/styles';

/**
 * Our own look: ink on warm paper, moss for what can be acted on, honey for what wants attention. Made for reading
 * dense tables; follows the system’s light or dark.
 */
export const theme = createTheme({
  cssVariables: { colorSchemeSelector: 'media' },
  colorSchemes: {
    light: {
      palette: {
        primary: { main: '#2b5a4c' },
        secondary: { main: '#8a5a00' },
        error: { main: '#a3312b' },
        background: { default: '#f6f3ec', paper: '#fffdf8' },
        text: { primary: '#1f2a2c', secondary: '#566165' },
        divider: '#d9d3c6',
      },
    },
    dark: {
      palette: {
        primary: { main: '#8fc7b2' },
        secondary: { main: '#e9b44c' },
        error: { main: '#f09a90' },
        background: { default: '#161c1c', paper: '#1e2626' },
        text: { primary: '#e8e6df', secondary: '#a5b0ae' },
        divider: '#374140',
      },
    },
  },
  typography: {
    fontFamily: '"Inter Variable", system-ui, sans-serif',
    fontSize: 13,
    h1: { fontSize: '1.35rem', fontWeight: 650, letterSpacing: '-0.01em' },
    h2: { fontSize: '1rem', fontWeight: 650 },
    button: { textTransform: 'none', fontWeight: 600 },
  },
  shape: { borderRadius: 5 },
  components: {
    MuiButton: { defaultProps: { disableElevation: true, disableRipple: true } },
    MuiTableCell: {
      styleOverrides: {
        root: {
          padding: '3px 7px',
          fontSize: '0.77rem',
          whiteSpace: 'nowrap',
          maxWidth: 132,
          overflow: 'hidden',
          textOverflow: 'ellipsis',
        },
        head: { fontWeight: 600, color: 'var(--mui-palette-text-secondary)' },
      },
    },
  },
});
