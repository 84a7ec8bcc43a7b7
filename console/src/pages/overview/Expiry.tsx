import type { Schemas } from '../../api/client'
import { Bars } from '../../parts/Bars'
import { month, some } from '../../parts/words'

/** Expiry draws how many certificates end in each of the next twelve months; the bars lead to the slots. */
export function Expiry({ ends }: { ends: Schemas['Ends'][] }) {
  return (
    <Bars
      about="Certificates that expire, by month"
      labels={ends.map((e) => month(e.month).slice(0, 3))}
      titles={ends.map((e) => month(e.month))}
      layers={[{ name: 'slots', color: 'primary.main', values: ends.map((e) => e.count) }]}
      piece={(i) => ({
        to: `/slots?ends=${ends[i]?.month}`,
        says: `${month(ends[i]?.month ?? '')}: ${some(ends[i]?.count ?? 0, 'slot')}`,
      })}
      height={190}
      widthOfBar={24}
    />
  )
}
