import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import { useQuery } from '@tanstack/react-query'
import { Link as RouterLink, useSearchParams } from 'react-router'
import type { Schemas } from '../../api/client'
import { daysQuery, sitesQuery } from '../../api/queries'
import { Heading } from '../../parts/Heading'
import { Loaded } from '../../parts/Loaded'
import { Panel, Quiet, Stack } from '../../parts/Panel'
import { month, number, slotPath } from '../../parts/words'
import { Name } from '../../parts/Name'

type Day = Schemas['DueDay']

/** weeksOf are the weeks of a month, Monday first, with the days around it that fill them. */
export function weeksOf(text: string): string[][] {
  const first = new Date(`${text}-01T00:00:00Z`)
  const at = new Date(first)
  at.setUTCDate(1 - ((first.getUTCDay() + 6) % 7))
  const out: string[][] = []
  do {
    const week: string[] = []
    for (let i = 0; i < 7; i++) {
      week.push(at.toISOString().slice(0, 10))
      at.setUTCDate(at.getUTCDate() + 1)
    }
    out.push(week)
  } while (at.toISOString().slice(0, 7) === text)
  return out
}

/** moved is the month some months on. */
export function moved(text: string, by: number): string {
  const at = new Date(`${text}-01T00:00:00Z`)
  at.setUTCMonth(at.getUTCMonth() + by)
  return at.toISOString().slice(0, 7)
}

const today = () => new Date().toISOString().slice(0, 10)

/** CalendarPage shows a month: by when somebody must act, and what expires. */
export function CalendarPage() {
  const [search, setSearch] = useSearchParams()
  const asked = search.get('month') ?? ''
  const at = /^\d{4}-(0[1-9]|1[0-2])$/.test(asked) ? asked : today().slice(0, 7)
  const days = useQuery(daysQuery(at))
  const sites = useQuery(sitesQuery)
  const holidays = new Map(
    (sites.data ?? []).flatMap((s) => s.holidays.map((h) => [h.date, `${s.name}: ${h.name}`] as const)),
  )
  const go = (by: number) => setSearch({ month: moved(at, by) })
  return (
    <Stack>
      <Heading title={month(at)} tab="Calendar">
        <Button variant="outlined" onClick={() => go(-1)} aria-label="The month before">
          ←
        </Button>
        <Button variant="outlined" onClick={() => setSearch({})}>
          Today
        </Button>
        <Button variant="outlined" onClick={() => go(1)} aria-label="The next month">
          →
        </Button>
      </Heading>
      <Panel title="Act-by dates and expiries">
        <Loaded query={days} height={480}>
          {(items) => <Month at={at} days={new Map(items.map((d) => [d.day, d]))} holidays={holidays} />}
        </Loaded>
      </Panel>
    </Stack>
  )
}

function Month({ at, days, holidays }: { at: string; days: Map<string, Day>; holidays: Map<string, string> }) {
  return (
    <Box sx={{ overflowX: 'auto' }} tabIndex={0} role="region" aria-label={month(at)}>
      <Box
        component="table"
        sx={{
          width: '100%',
          minWidth: 640,
          borderCollapse: 'collapse',
          tableLayout: 'fixed',
          '& th, & td': { border: 1, borderColor: 'divider' },
        }}
      >
        <thead>
          <tr>
            {['Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday', 'Sunday'].map((d) => (
              <Box
                component="th"
                key={d}
                scope="col"
                sx={{ textAlign: 'left', p: 0.5, fontWeight: 600, color: 'text.secondary' }}
              >
                {d}
              </Box>
            ))}
          </tr>
        </thead>
        <tbody>
          {weeksOf(at).map((week) => (
            <tr key={week[0]}>
              {week.map((date, i) => {
                const due = days.get(date)
                const off = holidays.get(date)
                return (
                  <Box
                    component="td"
                    key={date}
                    aria-current={date === today() ? 'date' : undefined}
                    sx={{
                      verticalAlign: 'top',
                      height: 92,
                      p: 0.5,
                      fontSize: 12,
                      bgcolor: i > 4 || off ? 'action.hover' : 'transparent',
                      color: date.startsWith(at) ? 'text.primary' : 'text.secondary',
                    }}
                  >
                    <Box sx={{ fontWeight: date === today() ? 700 : 400, ...(date === today() && { color: 'seal' }) }}>
                      {Number(date.slice(8))}
                    </Box>
                    {off && <Quiet>{off}</Quiet>}
                    {due?.entries.map((e) => (
                      <Box
                        key={`${e.expires} ${e.device}/${e.slot}`}
                        sx={{
                          overflow: 'hidden',
                          textOverflow: 'ellipsis',
                          whiteSpace: 'nowrap',
                          borderLeft: 3,
                          pl: 0.5,
                          mb: '2px',
                          borderColor: e.expires ? 'error.main' : 'primary.main',
                        }}
                      >
                        <Link
                          component={RouterLink}
                          to={slotPath(e.device, e.slot)}
                          sx={{ lineHeight: '24px' }}
                          title={`${e.expires ? 'expires' : 'act by'}: ${e.device}/${e.slot}${e.locks_out ? '; nobody can sign in once it has expired' : ''}`}
                        >
                          {e.expires ? 'expires ' : ''}
                          <Name of={`${e.device}/${e.slot}`} />
                          {e.locks_out && ' ⚿'}
                        </Link>
                      </Box>
                    ))}
                    {due && due.total > due.entries.length && (
                      <Link component={RouterLink} to={`/slots?ends=${date}`}>
                        and {number(due.total - due.entries.length)} more
                      </Link>
                    )}
                  </Box>
                )
              })}
            </tr>
          ))}
        </tbody>
      </Box>
    </Box>
  )
}
