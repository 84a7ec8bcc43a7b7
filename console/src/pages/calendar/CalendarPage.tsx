import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import { useQuery } from '@tanstack/react-query'
import { Link as RouterLink, useSearchParams } from 'react-router'
import type { Schemas } from '../../api/client'
import { dueQuery, sitesQuery } from '../../api/queries'
import { Heading } from '../../parts/Heading'
import { Loaded } from '../../parts/Loaded'
import { Panel, Quiet, Stack } from '../../parts/Panel'
import { month, slotPath } from '../../parts/words'

type Entry = { slot: string; to: string; kind: 'act by' | 'expires'; locksOut: boolean }

/** entriesOf sorts what is due by its days. */
export function entriesOf(due: Schemas['DueSlot'][]): Map<string, Entry[]> {
  const out = new Map<string, Entry[]>()
  for (const s of due) {
    for (const [kind, at] of [
      ['act by', s.act_by],
      ['expires', s.expires_at],
    ] as const) {
      if (!at) continue
      const key = at.slice(0, 10)
      out.set(key, [
        ...(out.get(key) ?? []),
        { slot: `${s.device}/${s.name}`, to: slotPath(s.device, s.name), kind, locksOut: s.locks_out },
      ])
    }
  }
  return out
}

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

const shown = 4
const today = () => new Date().toISOString().slice(0, 10)

/** CalendarPage shows a month: by when somebody must act, and what expires. */
export function CalendarPage() {
  const [search, setSearch] = useSearchParams()
  const asked = search.get('month') ?? ''
  const at = /^\d{4}-(0[1-9]|1[0-2])$/.test(asked) ? asked : today().slice(0, 7)
  const due = useQuery(dueQuery('800'))
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
        <Loaded query={due} height={480}>
          {(items) => <Month at={at} entries={entriesOf(items)} holidays={holidays} />}
        </Loaded>
      </Panel>
    </Stack>
  )
}

function Month({
  at,
  entries,
  holidays,
}: {
  at: string
  entries: Map<string, Entry[]>
  holidays: Map<string, string>
}) {
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
                const all = entries.get(date) ?? []
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
                    {all.slice(0, shown).map((e) => (
                      <Box
                        key={`${e.kind} ${e.slot}`}
                        sx={{
                          overflow: 'hidden',
                          textOverflow: 'ellipsis',
                          whiteSpace: 'nowrap',
                          borderLeft: 3,
                          pl: 0.5,
                          mb: '2px',
                          borderColor: e.kind === 'expires' ? 'error.main' : 'primary.main',
                        }}
                      >
                        <Link
                          component={RouterLink}
                          to={e.to}
                          sx={{ lineHeight: '24px' }}
                          title={`${e.kind}: ${e.slot}${e.locksOut ? '; nobody can sign in once it has expired' : ''}`}
                        >
                          {e.kind === 'expires' ? 'expires ' : ''}
                          {e.slot}
                          {e.locksOut && ' ⚿'}
                        </Link>
                      </Box>
                    ))}
                    {all.length > shown && <Quiet>and {all.length - shown} more</Quiet>}
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
