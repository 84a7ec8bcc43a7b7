import Box from '@mui/material/Box'
import { moment } from './words'

/** When is a moment in UTC, followed by the local time of the browser if its zone is another. */
export function When({ at }: { at?: string | null | undefined }) {
  if (!at) return <>–</>
  const here = local(at)
  return (
    <time dateTime={at}>
      <span style={{ whiteSpace: 'nowrap' }}>{moment(at)}</span>
      {here && (
        <Box component="span" sx={{ color: 'text.secondary', fontSize: '0.9em', whiteSpace: 'nowrap' }}>
          {' '}
          ({here} local)
        </Box>
      )}
    </time>
  )
}

/** local returns the local time of a moment, with its date if that differs from UTC; empty if the zone is UTC. */
function local(at: string) {
  const then = new Date(at)
  const offset = then.getTimezoneOffset()
  if (offset === 0 || Number.isNaN(offset)) return ''
  const text = new Date(then.getTime() - offset * 60_000).toISOString()
  return text.slice(0, 10) === at.slice(0, 10) ? text.slice(11, 16) : `${text.slice(0, 10)} ${text.slice(11, 16)}`
}
