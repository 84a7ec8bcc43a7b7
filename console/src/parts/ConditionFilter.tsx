import Box from '@mui/material/Box'
import Chip from '@mui/material/Chip'
import { ConditionMark, conditions, type Condition } from './Condition'

/** ConditionFilter lets one condition be chosen; counts, where given, stand beside them. */
export function ConditionFilter({
  chosen,
  choose,
  counts,
}: {
  chosen?: string | undefined
  choose: (c: string) => void
  counts?: Record<string, number> | undefined
}) {
  return (
    <Box role="group" aria-label="Filter by condition" sx={{ display: 'flex', flexWrap: 'wrap', gap: 1 }}>
      {(Object.keys(conditions) as Condition[])
        .filter((c) => !counts || counts[c] || chosen === c)
        .map((c) => (
          <Chip
            key={c}
            variant={chosen === c ? 'filled' : 'outlined'}
            aria-pressed={chosen === c}
            onClick={() => choose(chosen === c ? '' : c)}
            label={
              <Box component="span" sx={{ display: 'inline-flex', gap: 1 }}>
                <ConditionMark condition={c} /> {counts?.[c]}
              </Box>
            }
          />
        ))}
    </Box>
  )
}
