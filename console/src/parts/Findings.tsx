import Box from '@mui/material/Box'
import Typography from '@mui/material/Typography'
import type { Finding } from '../api/client'
import { Foreign } from './Foreign'
import { Next } from './Next'

const tones: Record<Finding['severity'], string> = {
  error: 'error.main',
  warning: 'warning.main',
  note: 'text.secondary',
}

/** Findings lists what is wrong: what, why it matters, what to do. */
export function Findings({ found }: { found: Finding[] }) {
  if (found.length === 0) return <Typography sx={{ color: 'text.secondary' }}>No findings.</Typography>
  return (
    <Box component="ul" sx={{ listStyle: 'none', m: 0, p: 0, display: 'grid', gap: 1.5 }}>
      {found.map((f) => (
        <Box component="li" key={f.code + f.what} sx={{ borderLeft: 3, borderColor: tones[f.severity], pl: 1.5 }}>
          <Typography sx={{ fontWeight: 600, overflowWrap: 'anywhere' }}>
            <Box component="span" sx={{ color: tones[f.severity] }}>
              {f.severity}
            </Box>
            : <Foreign>{f.what}</Foreign>
          </Typography>
          <Typography sx={{ color: 'text.secondary' }} variant="body2">
            {f.why}
          </Typography>
          <Typography variant="body2">
            <strong>Remedy:</strong> {f.remedy}
          </Typography>
          <Next actions={f.actions} />
        </Box>
      ))}
    </Box>
  )
}
