import Alert from '@mui/material/Alert'
import AlertTitle from '@mui/material/AlertTitle'
import Button from '@mui/material/Button'
import { useRouteError } from 'react-router'
import { ApiError } from '../api/client'

/** Problem tells what went wrong, why, and what to do next. */
export function Problem({ error, again }: { error: unknown; again?: () => void }) {
  const p = error instanceof ApiError ? error : new ApiError(0, 'This page has failed', String(error), 'Load it again.')
  return (
    <Alert severity="error" variant="outlined" sx={{ my: 2 }} action={again && <Button color="inherit" onClick={again}>Try again</Button>}>
      <AlertTitle>{sentence(p.title)}</AlertTitle>
      {p.detail && <div>{sentence(p.detail)}</div>}
      {p.next && (
        <div>
          <strong>Next:</strong> {p.next}
        </div>
      )}
    </Alert>
  )
}

export function RouteProblem() {
  return <Problem error={useRouteError()} again={() => window.location.reload()} />
}

function sentence(text: string) {
  return text.charAt(0).toUpperCase() + text.slice(1)
}
