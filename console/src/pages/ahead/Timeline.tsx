import Box from '@mui/material/Box'
import type { Schemas } from '../../api/client'
import { Bars } from '../../parts/Bars'
import { conditions, ConditionMark, type Condition } from '../../parts/Condition'
import { Quiet } from '../../parts/Panel'
import { month, some } from '../../parts/words'

type Month = Schemas['ExpiryMonth']
const order = (Object.keys(conditions) as Condition[]).reverse() // the best at the bottom

/** Timeline draws when certificates end, month by month, stacked by condition; each piece leads to its slots. */
export function Timeline({ months }: { months: Month[] }) {
  const used = order.filter((c) => months.some((m) => m.conditions[c]))
  const title = (m: Month | undefined) => (m?.ended ? 'before this month' : month(m?.month ?? ''))
  return (
    <>
      {used.length === 0 && <Quiet>No certificate is known yet.</Quiet>}
      {used.length > 0 && (
        <Bars
          about="Certificates that expire, by month and condition"
          labels={months.map((m) => (m.ended ? 'ended' : label(m.month)))}
          titles={months.map(title)}
          layers={used.map((c) => ({
            name: c,
            color: conditions[c].tone,
            hollow: conditions[c].hollow,
            values: months.map((m) => m.conditions[c] ?? 0),
          }))}
          piece={(i, l) => {
            const m = months[i]
            const c = used[l] ?? 'fresh'
            return {
              to: `/slots?ends=${m?.ended ? 'ended' : m?.month}&condition=${c}`,
              says: `${title(m)}: ${some(m?.conditions[c] ?? 0, 'slot')}, ${c}`,
            }
          }}
          height={280}
          widthOfBar={34}
        />
      )}
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 2, mt: 1 }}>
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
