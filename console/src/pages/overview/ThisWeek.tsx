import Link from '@mui/material/Link'
import { useQuery } from '@tanstack/react-query'
import { Link as RouterLink } from 'react-router'
import { dueQuery, tasksQuery } from '../../api/queries'
import { Loaded } from '../../parts/Loaded'
import { Panel, Quiet } from '../../parts/Panel'
import { day, some } from '../../parts/words'
import { breaks } from './Breaking'
import { SlotLine } from './SlotLine'

const shown = 5

/** inAWeek says whether a moment comes within a week, or has passed. */
const inAWeek = (at?: string | null) => Boolean(at) && Date.parse(at ?? '') < Date.now() + 7 * 864e5

/** ThisWeek answers: what must I do this week? Steps by hand, and what must start. */
export function ThisWeek() {
  const due = useQuery(dueQuery('7'))
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
            {t.device}: {t.name}
          </Link>
          , by hand{t.taken_by ? `, ${t.taken_by} does it` : ''}
        </Quiet>
      ))}
      {steps.length > 3 && (
        <Link component={RouterLink} to="/tasks">
          and {some(steps.length - 3, 'more step')} by hand
        </Link>
      )}
      <Loaded query={due} height={160}>
        {(all) => {
          const begin = all.filter(
            (s) => !breaks(s) && s.condition !== 'factory' && s.condition !== 'flawed' && inAWeek(s.act_by),
          )
          const wrong = all.filter((s) => !breaks(s) && ['factory', 'flawed'].includes(s.condition))
          return (
            <>
              {all.length === 0 && steps.length === 0 && <Quiet>Nothing has to be begun this week.</Quiet>}
              {begin.slice(0, shown).map((s) => (
                <SlotLine key={`${s.device}/${s.name}`} slot={s} says={`act by ${day(s.act_by)}`} />
              ))}
              {begin.length > shown && (
                <Link component={RouterLink} to="/slots?condition=due">
                  and {begin.length - shown} more
                </Link>
              )}
              {begin.length === 0 && all.length > 0 && <Quiet>No replacement has to start this week.</Quiet>}
              {wrong.slice(0, Math.max(0, shown - 1 - begin.length)).map((s) => (
                <SlotLine
                  key={`${s.device}/${s.name}`}
                  slot={s}
                  says={s.locks_out ? 'locks everybody out' : s.condition === 'factory' ? 'factory certificate' : ''}
                />
              ))}
              {wrong.length > 0 && (
                <Link component={RouterLink} to="/slots">
                  {some(wrong.length, 'slot')} with factory or faulty certificates
                </Link>
              )}
            </>
          )
        }}
      </Loaded>
    </Panel>
  )
}
