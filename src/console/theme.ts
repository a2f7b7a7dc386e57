import { createTheme } from '@mui/material/styles';

/** Ink on warm paper, moss for what can be acted on, honey for what wants attention. Made for reading dense tables. */
const light = {
  primary: { main: '#24523f', contrastText: '#fffdf8' },
  secondary: { main: '#8a5200' },
  error: { main: '#9c2a22' },
  warning: { main: '#8a5200' },
  success: { main: '#24523f' },
  info: { main: '#2c5a80' },
  background: { default: '#f6f3ec', paper: '#fffdf8' },
  text: { primary: '#1f2a2c', secondary: '#525d60' },
  divider: '#d9d3c6',
};
const dark = {
  primary: { main: '#8fc7b2', contrastText: '#12201b' },
  secondary: { main: '#e9b44c' },
  error: { main: '#f3a096' },
  warning: { main: '#e9b44c' },
  success: { main: '#8fc7b2' },
  info: { main: '#9cc4e4' },
  background: { default: '#161c1c', paper: '#1e2626' },
  text: { primary: '#e8e6df', secondary: '#a9b4b2' },
  divider: '#3b4644',
};

/** The frame at the top is the same in both: dark moss, with a line of honey. */
export const FRAME = { moss: '#24423a', honey: '#e9b44c', paper: '#f6f3ec', ink: '#24221a' } as const;

/** How close together things stand: lines of a table, and the text in them. */
export const densities = ['close', 'even', 'wide'] as const;
export type Density = (typeof densities)[number];

/** Heights of a line of the bench in pixels, by density. */
export const LINE: Readonly<Record<Density, number>> = { close: 30, even: 34, wide: 42 };

/** Widths and paddings go by steps of 4 pixels: MUI's spacing of 8 has halves. */
export const theme = createTheme({
  cssVariables: { colorSchemeSelector: 'data-theme' },
  colorSchemes: { light: { palette: light }, dark: { palette: dark } },
  typography: {
    fontFamily: '"Inter Variable", system-ui, sans-serif',
    fontSize: 13,
    h1: { fontSize: '1.25rem', fontWeight: 680, letterSpacing: '-0.012em', lineHeight: 1.25 },
    h2: { fontSize: '0.95rem', fontWeight: 650, lineHeight: 1.35 },
    body1: { fontSize: '0.875rem' },
    body2: { fontSize: '0.8125rem' },
    caption: { fontSize: '0.75rem' },
    button: { textTransform: 'none', fontWeight: 600 },
  },
  shape: { borderRadius: 4 },
  components: {
    MuiCssBaseline: {
      styleOverrides: {
        body: { fontVariantNumeric: 'tabular-nums' },
        code: { fontFamily: MONO(), fontSize: '0.95em' },
      },
    },
    MuiButtonBase: { defaultProps: { disableRipple: true } },
    MuiButton: {
      defaultProps: { disableElevation: true },
      styleOverrides: {
        root: { minWidth: 0, paddingInline: 10, lineHeight: 1.5 },
        outlined: { borderColor: 'var(--mui-palette-divider)' },
      },
    },
    MuiToggleButton: { styleOverrides: { root: { color: 'var(--mui-palette-text-secondary)' } } },
    MuiPaper: { styleOverrides: { root: { backgroundImage: 'none' } } },
    MuiTooltip: {
      styleOverrides: {
        tooltip: { fontSize: '0.78rem', maxWidth: 380, backgroundColor: '#1f2a2c', color: '#f6f3ec' },
      },
    },
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

/** Rules are read letter by letter. */
export function MONO(): string {
  return 'ui-monospace, "DejaVu Sans Mono", Menlo, Consolas, monospace';
}
