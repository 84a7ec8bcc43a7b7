import Box from '@mui/material/Box'
import { local, moment } from './words'

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
