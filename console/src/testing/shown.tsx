import { ThemeProvider } from '@mui/material/styles'
import { QueryClientProvider } from '@tanstack/react-query'
import { render } from '@testing-library/react'
import type { ReactElement } from 'react'
import { RouterProvider, createMemoryRouter } from 'react-router'
import { vi } from 'vitest'
import { queryClient } from '../api/queries'
import { theme } from '../app/theme'

/** shown draws something as a page at an address. */
export function shown(what: ReactElement, at = '/') {
  queryClient.clear()
  const router = createMemoryRouter([{ path: '*', element: what }], { initialEntries: [at] })
  render(
    <ThemeProvider theme={theme}>
      <QueryClientProvider client={queryClient}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </ThemeProvider>,
  )
  return router
}

type Answer = { status?: number; body: unknown }

/** answering stands in for the service: it answers each call by its method and path. */
export function answering(answers: Record<string, (url: URL, body: string) => Answer>) {
  const asked: string[] = []
  vi.spyOn(window, 'fetch').mockImplementation(async (input, init) => {
    const request = input instanceof Request ? input : new Request(new URL(String(input), window.location.origin), init)
    const url = new URL(request.url)
    const call = `${request.method} ${url.pathname}`
    asked.push(call + url.search)
    const { status = 200, body } = answers[call]?.(url, await request.text()) ?? { status: 404, body: { title: `nobody answers ${call}`, status: 404, type: '' } }
    return new Response(JSON.stringify(body), { status, headers: { 'Content-Type': 'application/json' } })
  })
  return asked
}
