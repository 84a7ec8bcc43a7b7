import Box from '@mui/material/Box'

const months = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec']

/** Expiry draws how many certificates end in each of the next twelve months; the numbers stand above the bars. */
export function Expiry({ ends }: { ends: string[] }) {
  const now = new Date()
  const bins = Array.from({ length: 12 }, (_, i) => {
    const first = new Date(Date.UTC(now.getUTCFullYear(), now.getUTCMonth() + i, 1))
    return { key: first.toISOString().slice(0, 7), label: months[first.getUTCMonth()] ?? '', year: first.getUTCFullYear(), count: 0 }
  })
  for (const end of ends) {
    const bin = bins.find((b) => b.key === end.slice(0, 7))
    if (bin && Date.parse(end) > now.getTime()) bin.count++
  }
  const most = Math.max(1, ...bins.map((b) => b.count))
  return (
    <Box role="img" aria-label={bins.map((b) => `${b.label} ${b.year}: ${b.count}`).join(', ')} sx={{ display: 'grid', gridTemplateColumns: 'repeat(12, minmax(0, 1fr))', gap: { xs: 0.5, sm: 1 }, alignItems: 'end', height: 180 }}>
      {bins.map((b) => (
        <Box key={b.key} sx={{ display: 'flex', flexDirection: 'column', justifyContent: 'flex-end', height: '100%', textAlign: 'center', fontSize: 12 }}>
          <Box sx={{ fontWeight: 600 }}>{b.count || ''}</Box>
          <Box sx={{ height: `${(b.count / most) * 120}px`, minHeight: 2, bgcolor: b.count ? 'primary.main' : 'divider', borderRadius: '3px 3px 0 0' }} />
          <Box sx={{ color: 'text.secondary', pt: 0.5 }}>{b.label}</Box>
        </Box>
      ))}
    </Box>
  )
}
