import Box from '@mui/material/Box'
import Chip from '@mui/material/Chip'
import Skeleton from '@mui/material/Skeleton'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { Suspense, lazy, useMemo } from 'react'
import { useSearchParams } from 'react-router'
import { slotsQuery } from '../../api/queries'
import { ConditionMark, conditions, type Condition } from '../../parts/Condition'
import { Problem } from '../../parts/Problem'

const SlotGrid = lazy(() => import('./SlotGrid'))

/** Slots lists the fleet, worst condition first. The filter stands in the address, so that it can be shared. */
export function Slots() {
  const slots = useQuery(slotsQuery)
  const [search, setSearch] = useSearchParams()
  const text = search.get('text') ?? ''
  const wanted = search.get('condition') as Condition | null
  const set = (name: string, value: string | null) =>
    setSearch((old) => {
      const next = new URLSearchParams(old)
      if (value) next.set(name, value)
      else next.delete(name)
      return next
    }, { replace: true })
  const shown = useMemo(
    () => (slots.data ?? []).filter((s) => (!wanted || s.condition === wanted) && [s.device, s.name, s.site, s.server_name, s.address].some((t) => t.toLowerCase().includes(text.toLowerCase()))),
    [slots.data, text, wanted],
  )
  if (slots.error) return <Problem error={slots.error} again={() => void slots.refetch()} />
  const counts = new Map<Condition, number>()
  for (const s of slots.data ?? []) counts.set(s.condition, (counts.get(s.condition) ?? 0) + 1)
  return (
    <Box sx={{ display: 'grid', gap: 2 }}>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 2, alignItems: 'center', justifyContent: 'space-between' }}>
        <Typography variant="h1">Slots</Typography>
        <TextField size="small" type="search" label="Filter by name, site or address" value={text} onChange={(e) => set('text', e.target.value)} sx={{ width: { xs: '100%', sm: 320 } }} />
      </Box>
      <Box role="group" aria-label="Filter by condition" sx={{ display: 'flex', flexWrap: 'wrap', gap: 1 }}>
        {(Object.keys(conditions) as Condition[])
          .filter((c) => counts.has(c))
          .map((c) => (
            <Chip
              key={c}
              variant={wanted === c ? 'filled' : 'outlined'}
              aria-pressed={wanted === c}
              onClick={() => set('condition', wanted === c ? null : c)}
              label={
                <Box component="span" sx={{ display: 'inline-flex', gap: 1 }}>
                  <ConditionMark condition={c} /> {counts.get(c)}
                </Box>
              }
            />
          ))}
      </Box>
      {slots.data ? (
        slots.data.length === 0 ? (
          <Typography sx={{ color: 'text.secondary' }}>
            There is no device yet. Add the first one from a terminal: <code>freshseal device add NAME --address ADDRESS</code>
          </Typography>
        ) : (
          <Suspense fallback={<Skeleton variant="rounded" height={420} />}>
            <SlotGrid slots={shown} />
          </Suspense>
        )
      ) : (
        <Skeleton variant="rounded" height={420} />
      )}
    </Box>
  )
}
