import Link from '@mui/material/Link'
import { useQuery } from '@tanstack/react-query'
import { Link as RouterLink } from 'react-router'
import { tasksQuery, urgentQuery } from '../../api/queries'
import { Loaded } from '../../parts/Loaded'
import { Panel, Quiet } from '../../parts/Panel'
import { day, number, some } from '../../parts/words'
import { SlotLine } from './SlotLine'
import { Name } from '../../parts/Name'

const shown = 5

/** ThisWeek answers: what must I do this week? Steps by hand, and what must start. */
export function ThisWeek() {
  const urgent = useQuery(urgentQuery)
  const tasks = useQuery(tasksQuery())
  const steps = tasks.data ?? []
  return (
    <Panel
      title="To do this week"
      term="act by"
      action={
        <Link component={RouterLink} to="/calendar">
          Calendar
        </Link>
      }
    >
      {steps.slice(0, 3).map((t) => (
        <Quiet key={t.id}>
          <Link component={RouterLink} to={`/replacements/${t.replacement}`}>
            <Name of={t.device} />: {t.name}
          </Link>
          , by hand{t.taken_by ? `, ${t.taken_by} does it` : ''}
        </Quiet>
      ))}
      {steps.length > 3 && (
        <Link component={RouterLink} to="/tasks">
          and {some(steps.length - 3, 'more step')} by hand
        </Link>
      )}
      <Loaded query={urgent} height={160}>
        {({ start, faulty }) => (
          <>
            {start.items.slice(0, shown).map((s) => (
              <SlotLine key={`${s.device}/${s.name}`} slot={s} says={`act by ${day(s.act_by)}`} />
            ))}
            {start.total > shown && (
              <Link component={RouterLink} to="/calendar" sx={{ display: 'block' }}>
                and {number(start.total - shown)} more
              </Link>
            )}
            {start.total === 0 && <Quiet>No replacement has to start this week.</Quiet>}
            {faulty.items.slice(0, Math.max(0, shown - 1 - start.items.length)).map((s) => (
              <SlotLine
                key={`${s.device}/${s.name}`}
                slot={s}
                says={s.locks_out ? 'locks everybody out' : s.condition === 'factory' ? 'factory certificate' : ''}
              />
            ))}
            {faulty.total > 0 && (
              <Link component={RouterLink} to="/slots?condition=factory" sx={{ display: 'block' }}>
                {some(faulty.total, 'slot')} with factory or faulty certificates
              </Link>
            )}
          </>
        )}
      </Loaded>
    </Panel>
  )
}
