import Alert from '@mui/material/Alert'
import AlertTitle from '@mui/material/AlertTitle'
import Button from '@mui/material/Button'
import { useEffect, useRef } from 'react'
import { useRouteError } from 'react-router'
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

export function RouteProblem() {
  return <Problem error={useRouteError()} again={() => window.location.reload()} />
}

function sentence(text: string) {
  return text.charAt(0).toUpperCase() + text.slice(1)
}
