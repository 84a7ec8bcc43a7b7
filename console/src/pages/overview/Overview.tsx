import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import Paper from '@mui/material/Paper'
import Skeleton from '@mui/material/Skeleton'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { Link as RouterLink } from 'react-router'
import { replacementsQuery, slotsQuery, statusQuery, tasksQuery } from '../../api/queries'
import { ConditionMark, conditions, type Condition } from '../../parts/Condition'
import { Panel } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { StateMark } from '../../parts/State'
import { day, days, slotPath, some } from '../../parts/words'
import { Heading } from '../../parts/Heading'
import { Expiry } from './Expiry'

/** Overview is the first page: how the fleet stands, what ends when, and what needs a person. */
export function Overview() {
  const status = useQuery(statusQuery)
  const next = useQuery(slotsQuery({ sort: 'expires_at', limit: '12' }))
  const tasks = useQuery(tasksQuery())
  const held = useQuery(replacementsQuery({ state: 'held', limit: '10' }))
  const waiting = useQuery(replacementsQuery({ state: 'waiting', limit: '10' }))
  const running = useQuery(replacementsQuery({ state: 'running', limit: '10' }))
  if (status.error && !status.data) return <Problem error={status.error} again={() => void status.refetch()} />
  if (!status.data) return <Skeleton variant="rounded" height={420} />
  const count = (c: Condition) => status.data.conditions[c] ?? 0
  const open = [held, waiting, running].flatMap((q) => q.data ?? [])
  const more = status.data.held + status.data.waiting + status.data.under_way - open.length
  const soonest = (next.data ?? []).filter((s) => s.act_by && s.condition !== 'dark').slice(0, 8)
  return (
    <Box sx={{ display: 'grid', gap: 2 }}>
      <Heading title={some(status.data.slots, 'slot')} tab="Overview" />
      {status.data.judging && (
        <Typography role="status" sx={{ color: 'text.secondary' }}>
          Rules or trust have changed: {status.data.judging.judged} of {status.data.judging.slots} slots are judged again.
        </Typography>
      )}
      {status.data.to_tell > 0 && (
        <Link component={RouterLink} to="/tasks" sx={{ justifySelf: 'start' }}>
          {status.data.to_tell} still to be told of a changed certificate
        </Link>
      )}
      {status.data.slots < 2 && (
        <Typography sx={{ color: 'text.secondary' }}>
          There is no device yet but Fresh Seal itself.{' '}
          <Link component={RouterLink} to="/devices">
            Add the first one.
          </Link>
        </Typography>
      )}
      <Box sx={{ display: 'grid', gap: 1.5, gridTemplateColumns: { xs: 'repeat(2, minmax(0, 1fr))', sm: 'repeat(4, minmax(0, 1fr))', lg: 'repeat(8, minmax(0, 1fr))' } }}>
        {(Object.keys(conditions) as Condition[]).map((c) => (
          <Paper
            key={c}
            component={RouterLink}
            to={`/slots?condition=${c}`}
            sx={{ p: 1.5, textDecoration: 'none', color: 'text.primary', '&:hover': { borderColor: 'primary.main' } }}
          >
            <ConditionMark condition={c} />
            <Typography sx={{ fontSize: 28, fontWeight: 650, lineHeight: 1.2, color: count(c) ? 'text.primary' : 'text.secondary' }}>{count(c)}</Typography>
            <Typography variant="body2" sx={{ color: 'text.secondary' }}>
              {conditions[c].about}
            </Typography>
          </Paper>
        ))}
      </Box>
      <Box sx={{ display: 'grid', gap: 2, gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: 'minmax(0, 3fr) minmax(0, 2fr)' }, alignItems: 'start' }}>
        <Panel title="Certificates that expire in the next 12 months">
          <Expiry ends={status.data.ends} />
        </Panel>
        <Panel title="In progress">
          {status.data.late.map((p) => (
            <Box key={p.id} sx={{ mb: 1, pl: 1, borderLeft: 3, borderColor: 'error.main' }}>
              <Link component={RouterLink} to="/desk">
                Parcel {p.id} is late: {p.open} not back
              </Link>
              <Typography variant="body2" sx={{ color: 'text.secondary' }}>
                {p.reminder}
              </Typography>
            </Box>
          ))}
          {(tasks.data ?? []).map((t) => (
            <Box key={t.id} sx={{ mb: 1, pl: 1, borderLeft: 3, borderColor: 'seal' }}>
              <Link component={RouterLink} to={`/replacements/${t.replacement}`}>
                {t.device}: {t.name}
              </Link>
              <Typography variant="body2" sx={{ color: 'text.secondary' }}>
                by hand, {t.taken_by ? `${t.taken_by} does it` : 'nobody does it yet'}
              </Typography>
            </Box>
          ))}
          {open.length === 0 ? (
            <Typography sx={{ color: 'text.secondary' }}>Nothing is in progress, and nothing needs a person.</Typography>
          ) : (
            open.map((r) => (
              <Box key={r.id} sx={{ mb: 1 }}>
                <Link component={RouterLink} to={`/replacements/${r.id}`}>
                  {r.id} {r.device}/{r.slot}
                </Link>
                <Box>
                  <StateMark replacement={r} />
                </Box>
              </Box>
            ))
          )}
          {more > 0 && (
            <Link component={RouterLink} to="/replacements">
              and {more} more
            </Link>
          )}
        </Panel>
      </Box>
      <Panel title="Act by" term="act by">
        {soonest.map((s) => (
          <Box
            key={`${s.device}/${s.name}`}
            sx={{
              display: 'grid',
              gridTemplateColumns: { xs: '90px minmax(0, 1fr)', sm: '100px minmax(0, 1fr) 110px 110px' },
              gap: 1,
              py: 0.5,
              borderBottom: 1,
              borderColor: 'divider',
            }}
          >
            <span>{day(s.act_by)}</span>
            <Link component={RouterLink} to={slotPath(s.device, s.name)} sx={{ overflowWrap: 'anywhere' }}>
              {s.device}/{s.name}
            </Link>
            <ConditionMark condition={s.condition} />
            <Box component="span" sx={{ display: { xs: 'none', sm: 'inline' } }}>
              {days(s.expires_in_days)}
            </Box>
          </Box>
        ))}
      </Panel>
    </Box>
  )
}
