import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import Skeleton from '@mui/material/Skeleton'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { Suspense, lazy } from 'react'
import { Link as RouterLink } from 'react-router'
import { statusQuery } from '../../api/queries'
import { ConditionFilter } from '../../parts/ConditionFilter'
import { Problem } from '../../parts/Problem'
import { TextFilter } from '../../parts/TextFilter'
import { useFilter } from '../../parts/useFilter'

const SlotGrid = lazy(() => import('./SlotGrid'))

/** Slots lists the fleet, worst condition first. The filter stands in the address, so that it can be shared. */
export function Slots() {
  const status = useQuery(statusQuery)
  const [filter, set] = useFilter('text', 'condition', 'site')
  if (status.error) return <Problem error={status.error} again={() => void status.refetch()} />
  return (
    <Box sx={{ display: 'grid', gap: 2 }}>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 2, alignItems: 'center', justifyContent: 'space-between' }}>
        <Typography variant="h1">Slots</Typography>
        <TextFilter label="Filter by name, site or address" value={filter['text'] ?? ''} set={(text) => set('text', text)} />
      </Box>
      <ConditionFilter chosen={filter['condition']} choose={(c) => set('condition', c)} counts={status.data?.conditions} />
      {status.data?.slots === 0 ? (
        <Typography sx={{ color: 'text.secondary' }}>
          There is no device yet. <Link component={RouterLink} to="/devices">Add the first one.</Link>
        </Typography>
      ) : (
        <Suspense fallback={<Skeleton variant="rounded" height={420} />}>
          <SlotGrid filter={filter} />
        </Suspense>
      )}
    </Box>
  )
}
