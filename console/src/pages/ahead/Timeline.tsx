import Box from '@mui/material/Box'
import { Link as RouterLink } from 'react-router'
import type { Schemas } from '../../api/client'
import { conditions, ConditionMark, type Condition } from '../../parts/Condition'
import { Quiet } from '../../parts/Panel'
import { month, some } from '../../parts/words'

type Month = Schemas['ExpiryMonth']
const order = (Object.keys(conditions) as Condition[]).reverse() // the best at the bottom
const all = (m: Month) => Object.values(m.conditions).reduce((a, b) => a + b, 0)

/** Timeline draws when certificates end, month by month, stacked by condition; each piece leads to its slots. */
export function Timeline({ months }: { months: Month[] }) {
  const most = Math.max(1, ...months.map(all))
  const used = order.filter((c) => months.some((m) => m.conditions[c]))
  return (
    <>
      <Box sx={{ overflowX: 'auto' }} tabIndex={0} role="region" aria-label="Timeline">
        <Box
          component="ol"
          sx={{ listStyle: 'none', m: 0, p: 0, display: 'grid', gridTemplateColumns: `repeat(${months.length}, minmax(30px, 1fr))`, gap: 0.5, alignItems: 'end', height: 260 }}
        >
          {months.map((m) => (
            <Box component="li" key={m.month} sx={{ height: '100%', display: 'flex', flexDirection: 'column', justifyContent: 'flex-end', textAlign: 'center', fontSize: 12 }}>
              <Box sx={{ fontWeight: 600 }}>{all(m) || ''}</Box>
              {used
                .slice()
                .reverse()
                .map((c) => {
                  const n = m.conditions[c] ?? 0
                  if (n === 0) return null
                  const what = `${m.ended ? 'before this month' : month(m.month)}: ${some(n, 'slot')}, ${c}`
                  return (
                    <Box
                      key={c}
                      component={RouterLink}
                      to={`/slots?ends=${m.ended ? 'ended' : m.month}&condition=${c}`}
                      title={what}
                      aria-label={what}
                      sx={{
                        height: Math.max(24, (n / most) * 150),
                        bgcolor: conditions[c].hollow ? 'transparent' : conditions[c].tone,
                        border: 1.5,
                        borderColor: conditions[c].tone,
                        mb: '1px',
                        borderRadius: '2px',
                        opacity: c === 'fresh' ? 0.75 : 1,
                        '&:hover': { outline: '2px solid', outlineColor: 'seal' },
                      }}
                    />
                  )
                })}
              <Box sx={{ color: 'text.secondary', pt: 0.5, whiteSpace: 'nowrap', borderTop: 1, borderColor: 'divider' }}>{m.ended ? 'ended' : label(m.month)}</Box>
            </Box>
          ))}
        </Box>
      </Box>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 2, mt: 1 }}>
        {used.length === 0 && <Quiet>No certificate is known yet.</Quiet>}
        {used
          .slice()
          .reverse()
          .map((c) => (
            <ConditionMark key={c} condition={c} />
          ))}
      </Box>
    </>
  )
}

/** label is a month as it stands below its bar: Jan 27 at the beginning of a year. */
function label(text: string) {
  const short = month(text).slice(0, 3)
  return text.endsWith('-01') ? `${short} ’${text.slice(2, 4)}` : short
}
