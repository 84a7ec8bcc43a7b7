import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import Paper from '@mui/material/Paper'
import Skeleton from '@mui/material/Skeleton'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { Suspense, lazy } from 'react'
import { Link as RouterLink } from 'react-router'
import { chunk } from '../../api/chunk'
import { statusQuery } from '../../api/queries'
import { ConditionMark, conditions, type Condition } from '../../parts/Condition'
import { Panel } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { number, some } from '../../parts/words'
import { Heading } from '../../parts/Heading'
import { Breaking } from './Breaking'
import { Elsewhere } from './Elsewhere'
import { ThisWeek } from './ThisWeek'

const Expiry = lazy(async () => ({ default: (await chunk(import('./Expiry'))).Expiry }))

/**
 * Overview is the first page: how the fleet stands; is anything about to break, what must be done this week, what
 * waits for somebody else.
 */
export function Overview() {
  const status = useQuery(statusQuery)
  if (status.error && !status.data) return <Problem error={status.error} again={() => void status.refetch()} />
  if (!status.data) return <Skeleton variant="rounded" height={420} />
  const count = (c: Condition) => status.data.conditions[c] ?? 0
  return (
    <Box sx={{ display: 'grid', gap: 2 }}>
      <Heading title={some(status.data.slots, 'slot')} tab="Overview" />
      {status.data.judging && (
        <Typography role="status" sx={{ color: 'text.secondary' }}>
          Rules or trust have changed: {number(status.data.judging.judged)} of {number(status.data.judging.slots)} slots
          are judged again.
        </Typography>
      )}
      {status.data.slots < 2 && (
        <Typography sx={{ color: 'text.secondary' }}>
          There is no device yet but Fresh Seal itself.{' '}
          <Link component={RouterLink} to="/devices">
            Add the first one.
          </Link>
        </Typography>
      )}
      <Box
        sx={{
          display: 'grid',
          gap: 1.5,
          gridTemplateColumns: {
            xs: 'repeat(2, minmax(0, 1fr))',
            sm: 'repeat(4, minmax(0, 1fr))',
            lg: 'repeat(8, minmax(0, 1fr))',
          },
        }}
      >
        {(Object.keys(conditions) as Condition[]).map((c) => (
          <Paper
            key={c}
            component={RouterLink}
            to={`/slots?condition=${c}`}
            sx={{ p: 1.5, textDecoration: 'none', color: 'text.primary', '&:hover': { borderColor: 'primary.main' } }}
          >
            <ConditionMark condition={c} />
            <Typography
              sx={{
                fontSize: 28,
                fontWeight: 650,
                lineHeight: 1.2,
                color: count(c) ? 'text.primary' : 'text.secondary',
              }}
            >
              {number(count(c))}
            </Typography>
            <Typography variant="body2" sx={{ color: 'text.secondary' }}>
              {conditions[c].about}
            </Typography>
          </Paper>
        ))}
      </Box>
      <Box
        sx={{
          display: 'grid',
          gap: 2,
          gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: 'repeat(3, minmax(0, 1fr))' },
          alignItems: 'stretch',
        }}
      >
        <Breaking />
        <ThisWeek />
        <Elsewhere status={status.data} />
      </Box>
      <Panel
        title="Certificates that expire in the next 12 months"
        action={
          <Link component={RouterLink} to="/ahead">
            Forecast
          </Link>
        }
      >
        <Suspense fallback={<Skeleton variant="rounded" height={190} />}>
          <Expiry ends={status.data.ends} />
        </Suspense>
      </Panel>
    </Box>
  )
}
