import Box from '@mui/material/Box'
import { Link as RouterLink } from 'react-router'
import type { Schemas } from '../../api/client'
import { month, some } from '../../parts/words'

const months = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec']

/** Expiry draws how many certificates end in each of the next twelve months; the numbers stand above the bars, which lead to the slots. */
export function Expiry({ ends }: { ends: Schemas['Ends'][] }) {
  const bins = ends.map((e) => ({ ...e, label: months[Number(e.month.slice(5)) - 1] ?? '' }))
  const most = Math.max(1, ...bins.map((b) => b.count))
  return (
    <Box
      component="ol"
      aria-label="Certificates that expire, by month"
      sx={{ listStyle: 'none', m: 0, p: 0, display: 'grid', gridTemplateColumns: 'repeat(12, minmax(0, 1fr))', gap: { xs: 0.5, sm: 1 }, alignItems: 'end', height: 180 }}
    >
      {bins.map((b) => (
        <Box component="li" key={b.month} sx={{ height: '100%' }}>
          <Box
            component={b.count ? RouterLink : 'div'}
            {...(b.count && { to: `/slots?ends=${b.month}`, title: `${month(b.month)}: ${some(b.count, 'slot')}` })}
            sx={{
              display: 'flex',
              flexDirection: 'column',
              justifyContent: 'flex-end',
              height: '100%',
              textAlign: 'center',
              fontSize: 12,
              color: 'text.primary',
              textDecoration: 'none',
              '&:hover .bar': { bgcolor: 'seal' },
            }}
          >
            <Box sx={{ fontWeight: 600 }}>{b.count || ''}</Box>
            <Box className="bar" sx={{ height: `${(b.count / most) * 120}px`, minHeight: 2, bgcolor: b.count ? 'primary.main' : 'divider', borderRadius: '3px 3px 0 0' }} />
            <Box sx={{ color: 'text.secondary', pt: 0.5 }}>{b.label}</Box>
          </Box>
        </Box>
      ))}
    </Box>
  )
}
