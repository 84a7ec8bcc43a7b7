import Alert from '@mui/material/Alert'
import AlertTitle from '@mui/material/AlertTitle'
import Button from '@mui/material/Button'
import { Component, useEffect, useRef, type ReactNode } from 'react'
import { ChunkError } from '../api/chunk'
import { ApiError } from '../api/client'
import { Foreign } from './Foreign'
import { Next } from './Next'

/** Problem tells what went wrong, why, and what to do next. It comes into view when it appears. */
export function Problem({ error, again }: { error: unknown; again?: () => void }) {
  const p = error instanceof ApiError ? error : new ApiError(0, 'This page has failed', String(error), 'Load it again.')
  const at = useRef<HTMLDivElement>(null)
  useEffect(() => {
    at.current?.scrollIntoView({ block: 'nearest' }) // in braces: newer browsers return a promise, which is no cleanup
  }, [error])
  return (
    <Alert
      ref={at}
      severity="error"
      variant="outlined"
      role="alert"
      sx={{ my: 2, scrollMargin: 80 }}
      action={
        again && (
          <Button color="inherit" onClick={again}>
            Try again
          </Button>
        )
      }
    >
      <AlertTitle>
        <Foreign>{sentence(p.title)}</Foreign>
      </AlertTitle>
      {p.detail && (
        <div>
          <Foreign>{sentence(p.detail)}</Foreign>
        </div>
      )}
      <Next say={p.next} actions={p.actions} />
    </Alert>
  )
}

const notLoaded = new ApiError(
  0,
  'This page could not be loaded',
  'the service did not send it: it is away, or was upgraded since the console was opened',
  'It is loaded as soon as the service answers.',
)

type Tried = { at: string; children: ReactNode }

/** Failing shows what is in it, or why that failed, until another address is opened. */
export class Failing extends Component<Tried, { error?: unknown }> {
  override state: { error?: unknown } = {}
  static getDerivedStateFromError(error: unknown) {
    return { error }
  }
  override componentDidUpdate(before: Tried) {
    if (before.at !== this.props.at && this.state.error !== undefined) this.setState({ error: undefined })
  }
  override render() {
    return this.state.error === undefined ? this.props.children : <PageProblem error={this.state.error} />
  }
}

// A page that could not be loaded is loaded when the service is back.
function PageProblem({ error }: { error: unknown }) {
  const missing = error instanceof ChunkError
  useEffect(() => {
    if (!missing) return
    const look = window.setInterval(() => void reloadOnceBack(), 2000)
    return () => window.clearInterval(look)
  }, [missing])
  return <Problem error={missing ? notLoaded : error} again={() => window.location.reload()} />
}

// A part that fails although the service answers is tried again twice a minute, no more.
async function reloadOnceBack() {
  const last = Number(sessionStorage.getItem('reloaded'))
  if (Date.now() - last < 30_000) return
  const back = await fetch('/healthz').catch(() => undefined)
  if (!back?.ok) return
  sessionStorage.setItem('reloaded', String(Date.now()))
  window.location.reload()
}

const begins = new RegExp(
  '^(a|all|an|another|every|for|how|in|it|its|more|no|nobody|nothing|one|only|some|somebody|that|the|there|these|this|' +
    'what|who|with|you|your) ',
)

// A sentence begins with a capital letter, but for a name, which is written as it is.
function sentence(text: string) {
  return begins.test(text) ? text.charAt(0).toUpperCase() + text.slice(1) : text
}
