import '@fontsource-variable/inter/index.css'
import '@fontsource-variable/source-code-pro/index.css'
import CssBaseline from '@mui/material/CssBaseline'
import { ThemeProvider } from '@mui/material/styles'
import { QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { RouterProvider } from 'react-router/dom'
import { ahead, queryClient, sessionQuery } from './api/queries'
import { router } from './app/router'
import { theme } from './app/theme'

// Who is signed in is asked beside the code of the page.
ahead(sessionQuery)

const root = document.getElementById('root')
if (!root) throw new Error('the page has no root')

createRoot(root).render(
  <StrictMode>
    <ThemeProvider theme={theme} defaultMode="system">
      <CssBaseline />
      <QueryClientProvider client={queryClient}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </ThemeProvider>
  </StrictMode>,
)
