import Box from '@mui/material/Box'
import type { Schemas } from '../../api/client'

const months = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec']

/** Expiry draws how many certificates end in each of the next twelve months; the numbers stand above the bars. */
export function Expiry({ ends }: { ends: Schemas['Ends'][] }) {
  const bins = ends.map((e) => ({ ...e, label: months[Number(e.month.slice(5)) - 1] ?? '' }))
  const most = Math.max(1, ...bins.map((b) => b.count))
  return (
    <Box role="img" aria-label={bins.map((b) => `${b.label} ${b.month.slice(0, 4)}: ${b.count}`).join(', ')} sx={{ display: 'grid', gridTemplateColumns: 'repeat(12, minmax(0, 1fr))', gap: { xs: 0.5, sm: 1 }, alignItems: 'end', height: 180 }}>
      {bins.map((b) => (
        <Box key={b.month} sx={{ display: 'flex', flexDirection: 'column', justifyContent: 'flex-end', height: '100%', textAlign: 'center', fontSize: 12 }}>
          <Box sx={{ fontWeight: 600 }}>{b.count || ''}</Box>
          <Box sx={{ height: `${(b.count / most) * 120}px`, minHeight: 2, bgcolor: b.count ? 'primary.main' : 'divider', borderRadius: '3px 3px 0 0' }} />
          <Box sx={{ color: 'text.secondary', pt: 0.5 }}>{b.label}</Box>
        </Box>
      ))}
    </Box>
  )
}
