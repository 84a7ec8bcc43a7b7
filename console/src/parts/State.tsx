import Box from '@mui/material/Box'
import type { Replacement } from '../api/client'

const tones: Record<string, string> = {
  running: 'primary.main', waiting: 'primary.main', held: 'error.main', sealed: 'success.main', reverted: 'warning.main', cancelled: 'text.secondary',
}
const signs: Record<string, string> = { running: '▸', waiting: '…', held: '!', sealed: '✓', reverted: '↩', cancelled: '–' }

/** StateMark says where a replacement stands, in words and with a sign. */
export function StateMark({ replacement: r }: { replacement: Replacement }) {
  return (
    <Box component="span" data-state={r.state} sx={{ color: tones[r.state], fontWeight: 600 }}>
      {signs[r.state]} {r.state}
      {r.waiting_for && ` for ${r.waiting_for}`}
      {r.state === 'running' && (r.reverting ? ', going back' : `, ${r.stage}`)}
    </Box>
  )
}
