import '@fontsource-variable/inter/index.css'
import '@fontsource-variable/source-code-pro/index.css'
import CssBaseline from '@mui/material/CssBaseline'
import { ThemeProvider } from '@mui/material/styles'
import { QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { BrowserRouter } from 'react-router'
import { ChunkError } from './api/chunk'
import { ahead, queryClient, sessionQuery } from './api/queries'
import { Pages, beginWith } from './app/router'
import { theme } from './app/theme'

// Who is signed in is asked beside the code of the page.
ahead(sessionQuery)
beginWith(window.location)

// What could not be loaded is told on the page and needs no trace.
function told(error: unknown) {
  if (!(error instanceof ChunkError)) console.error(error)
}

const root = document.getElementById('root')
if (!root) throw new Error('the page has no root')

createRoot(root, { onCaughtError: told }).render(
  <StrictMode>
    <ThemeProvider theme={theme} defaultMode="system">
      <CssBaseline />
      <QueryClientProvider client={queryClient}>
        <BrowserRouter>
          <Pages />
        </BrowserRouter>
      </QueryClientProvider>
    </ThemeProvider>
  </StrictMode>,
)
