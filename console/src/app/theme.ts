import { createTheme } from '@mui/material/styles'

export const mono = '"Source Code Pro Variable", ui-monospace, monospace'

declare module '@mui/material/styles' {
  interface Palette {
    seal: string
    line: string
  }
  interface PaletteOptions {
    seal?: string
    line?: string
  }
}

// Ink blue on paper white; madder red for the seal and for what needs a person.
const light = {
  primary: { main: '#1f3a68' },
  error: { main: '#a3273a' },
  warning: { main: '#8a5a00' },
  success: { main: '#2b6243' },
  background: { default: '#fbfaf6', paper: '#ffffff' },
  text: { primary: '#1a2236', secondary: '#525c73' },
  divider: '#dcd9cf',
  seal: '#a3273a',
  line: '#8d95a8',
}

const dark = {
  primary: { main: '#a9c1f0' },
  error: { main: '#f08c9b' },
  warning: { main: '#e6b566' },
  success: { main: '#8ccba5' },
  background: { default: '#10172a', paper: '#172036' },
  text: { primary: '#e6e9f2', secondary: '#a7b0c6' },
  divider: '#2c3753',
  seal: '#e2667a',
  line: '#7c88a6',
}

type Sheets = { generateStyleSheets: () => Record<string, Record<string, string>>[] }

/** onPaper are the variables of the light colours: paper is white, whatever the screen shows. */
function onPaper(theme: Sheets) {
  const sheets = theme.generateStyleSheets().flatMap((sheet) => Object.entries(sheet))
  return sheets.find(([selector]) => selector.includes('light'))?.[1] ?? {}
}

export const theme = createTheme({
  cssVariables: { colorSchemeSelector: 'data-scheme' },
  colorSchemes: { light: { palette: light }, dark: { palette: dark } },
  shape: { borderRadius: 6 },
  typography: {
    fontFamily: '"Inter Variable", system-ui, sans-serif',
    fontSize: 13,
    body1: { fontSize: '0.875rem' },
    body2: { fontSize: '0.8125rem' },
    h1: { fontSize: '1.375rem', fontWeight: 650, letterSpacing: '-0.01em' },
    h2: { fontSize: '0.9375rem', fontWeight: 650 },
    button: { textTransform: 'none', fontWeight: 600 },
  },
  components: {
    MuiCssBaseline: {
      styleOverrides: (theme) => ({
        html: { scrollPaddingTop: 72 }, // below the bar that stays at the top
        ':focus-visible': { outline: '2px solid var(--mui-palette-primary-main)', outlineOffset: 2 },
        'tr:focus-visible': { outlineOffset: -2 },
        '@media (prefers-reduced-motion: reduce)': {
          '*, *::before, *::after': {
            animationDuration: '0.01ms !important',
            animationIterationCount: '1 !important',
            transition: 'none !important', // not short: all elements would have one for all that changes
            scrollBehavior: 'auto !important',
          },
        },
        '@media print': {
          'html[data-scheme]': onPaper(theme),
          '.no-print, header': { display: 'none !important' },
          body: { background: '#fff' },
          section: { breakInside: 'avoid' },
          tr: { breakInside: 'avoid' },
          '.MuiTableCell-paddingCheckbox': { display: 'none' },
          thead: { display: 'table-header-group' }, // again on every page
          '[role=region], .MuiTableContainer-root': { overflow: 'visible !important' },
        },
      }),
    },
    MuiTableCell: {
      styleOverrides: {
        sizeSmall: ({ theme }) => ({ [theme.breakpoints.down('md')]: { paddingLeft: 8, paddingRight: 8 } }),
      },
    },
    MuiDialog: { defaultProps: { scroll: 'body' } },
    MuiButton: { defaultProps: { disableElevation: true } },
    MuiPaper: { defaultProps: { variant: 'outlined' } },
    MuiLink: { defaultProps: { underline: 'hover' } },
  },
})
