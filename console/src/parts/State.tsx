import Box from '@mui/material/Box'
import type { Replacement } from '../api/client'

const tones: Record<Replacement['state'], string> = {
  running: 'primary.main',
  waiting: 'primary.main',
  held: 'error.main',
  sealed: 'success.main',
  reverted: 'text.primary',
  cancelled: 'text.secondary',
  closed: 'text.secondary',
}
const signs: Record<Replacement['state'], string> = {
  running: '▸',
  waiting: '…',
  held: '!',
  sealed: '✓',
  reverted: '↩',
  cancelled: '–',
  closed: '■',
}

/** states are all states of a replacement. */
export const states = Object.keys(tones)

/** wanted says that somebody asked for a way back: then it is nothing that went wrong. */
export const wanted = (r: Replacement) => r.state === 'reverted' && r.asked === true

/** waits names what a replacement waits for. */
export const waits = (what: string) => (what === 'person' ? 'manual step' : what)

/** StateMark says where a replacement stands, in words and with a sign. */
export function StateMark({ replacement: r }: { replacement: Replacement }) {
  return (
    <Box
      component="span"
      data-state={r.state}
      sx={{
        color: r.state === 'reverted' && !wanted(r) ? 'warning.main' : tones[r.state],
        fontWeight: 600,
        whiteSpace: 'nowrap',
      }}
    >
      {signs[r.state]} {r.state}
      {r.waiting_for && ` for ${waits(r.waiting_for)}`}
      {r.state === 'running' && (r.reverting ? ', going back' : `, ${r.stage}`)}
    </Box>
  )
}
