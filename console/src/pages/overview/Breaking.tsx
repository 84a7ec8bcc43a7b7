import Link from '@mui/material/Link'
import { useQuery } from '@tanstack/react-query'
import { Link as RouterLink } from 'react-router'
import type { Schemas } from '../../api/client'
import { urgentQuery } from '../../api/queries'
import { Loaded } from '../../parts/Loaded'
import { Panel, Quiet } from '../../parts/Panel'
import { day, days, number, some } from '../../parts/words'
import { SlotLine } from './SlotLine'

const shown = 6

/** Breaking answers: is anything about to break? */
export function Breaking() {
  return (
    <Panel title="Expired or expiring within 7 days">
      <Loaded query={useQuery(urgentQuery)} height={160}>
        {({ breaking, unreachable, not_read: notRead }) => {
          const silent = unreachable.total - notRead
          return (
            <>
              {breaking.total === 0 && (
                <Quiet>Nothing expires within 7 days, and no certificate was changed outside Fresh Seal.</Quiet>
              )}
              {breaking.items.slice(0, shown).map((s) => (
                <SlotLine
                  key={`${s.device}/${s.name}`}
                  slot={s}
                  says={`${s.locks_out ? 'locks everybody out; ' : ''}${reason(s)}`}
                />
              ))}
              {breaking.total > shown && (
                <Link component={RouterLink} to="/slots?ends=7d&sort=expires_at" sx={{ display: 'block' }}>
                  and {number(breaking.total - shown)} more
                </Link>
              )}
              {silent > 0 && (
                <Link component={RouterLink} to="/slots?condition=unreachable" sx={{ display: 'block' }}>
                  {some(silent, 'slot')} could not be read: nobody knows what{' '}
                  {silent === 1 ? 'it serves' : 'they serve'}
                </Link>
              )}
              {notRead > 0 && <Quiet>{some(notRead, 'slot')} not read yet.</Quiet>}
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
