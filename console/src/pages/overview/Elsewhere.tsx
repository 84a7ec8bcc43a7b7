import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import { useQuery } from '@tanstack/react-query'
import { Link as RouterLink } from 'react-router'
import type { Schemas } from '../../api/client'
import { replacementsQuery } from '../../api/queries'
import { Foreign } from '../../parts/Foreign'
import { Panel, Quiet } from '../../parts/Panel'
import { StateMark } from '../../parts/State'
import { Name } from '../../parts/Name'

/** Elsewhere answers: what waits for somebody else, and what is under way? */
export function Elsewhere({ status }: { status: Schemas['Status'] }) {
  const held = useQuery(replacementsQuery({ state: 'held', limit: '5' }))
  const waiting = useQuery(replacementsQuery({ state: 'waiting', limit: '5' }))
  const running = useQuery(replacementsQuery({ state: 'running', limit: '5' }))
  const open = [held, waiting, running].flatMap((q) => q.data ?? [])
  const more = status.held + status.waiting + status.under_way - open.length
  return (
    <Panel title="Waiting and under way">
      {status.late.map((p) => (
        <Box key={p.id} sx={{ mb: 1, pl: 1, borderLeft: 3, borderColor: 'error.main' }}>
          <Link component={RouterLink} to="/desk">
            Parcel {p.id} is late: {p.open} not back
          </Link>
          <Quiet>{p.reminder}</Quiet>
        </Box>
      ))}
      {open.map((r) => (
        <Box key={r.id} sx={{ mb: 1 }}>
          <Link component={RouterLink} to={`/replacements/${r.id}`} sx={{ overflowWrap: 'anywhere' }}>
            {r.id} <Name of={`${r.device}/${r.slot}`} />
          </Link>
          <Box>
            <StateMark replacement={r} />
          </Box>
          {r.state === 'held' && (
            <Quiet>
              <Foreign>{r.why}</Foreign>
            </Quiet>
          )}
        </Box>
      ))}
      {open.length === 0 && status.late.length === 0 && <Quiet>Nothing is in progress, and nothing is waiting.</Quiet>}
      {more > 0 && (
        <Link component={RouterLink} to="/replacements">
          and {more} more
        </Link>
      )}
      {status.pending_pins > 0 && (
        <Link component={RouterLink} to="/tasks" sx={{ display: 'block' }}>
          {status.pending_pins} {status.pending_pins === 1 ? 'pin' : 'pins'} pending
        </Link>
      )}
    </Panel>
  )
}
