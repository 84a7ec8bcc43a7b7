import Link from '@mui/material/Link'
import { useQuery } from '@tanstack/react-query'
import { Link as RouterLink } from 'react-router'
import type { Schemas } from '../../api/client'
import { dueQuery } from '../../api/queries'
import { Loaded } from '../../parts/Loaded'
import { Panel, Quiet } from '../../parts/Panel'
import { day, days } from '../../parts/words'
import { SlotLine } from './SlotLine'

const shown = 6
const week = 7

/** breaks says whether clients are refused now, or will be within a week. */
export const breaks = (s: Schemas['DueSlot']) =>
  ['expired', 'unexpected'].includes(s.condition) ||
  (s.expires_in_days !== null && s.expires_in_days !== undefined && s.expires_in_days <= week)

/** Breaking answers: is anything about to break? */
export function Breaking() {
  const due = useQuery(dueQuery('30'))
  return (
    <Panel title="Expired or expiring within 7 days">
      <Loaded query={due} height={160}>
        {(all) => {
          const bad = all.filter(breaks)
          return (
            <>
              {bad.length === 0 && (
                <Quiet>Nothing expires within 7 days, and no certificate was changed outside Fresh Seal.</Quiet>
              )}
              {bad.slice(0, shown).map((s) => (
                <SlotLine
                  key={`${s.device}/${s.name}`}
                  slot={s}
                  says={`${s.locks_out ? 'locks everybody out; ' : ''}${reason(s)}`}
                />
              ))}
              {bad.length > shown && (
                <Link component={RouterLink} to="/slots?sort=expires_at">
                  and {bad.length - shown} more
                </Link>
              )}
            </>
          )
        }}
      </Loaded>
    </Panel>
  )
}

function reason(s: Schemas['Slot']) {
  return s.condition === 'unexpected'
    ? 'changed outside Fresh Seal'
    : `${days(s.expires_in_days)}, ${day(s.expires_at)}`
}
