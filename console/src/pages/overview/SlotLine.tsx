import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import { Link as RouterLink } from 'react-router'
import type { Slot } from '../../api/client'
import { ConditionMark } from '../../parts/Condition'
import { slotPath } from '../../parts/words'
import { Name } from '../../parts/Name'

/** SlotLine is a slot on one line, with what there is to say of it. */
export function SlotLine({ slot: s, says }: { slot: Slot; says: string }) {
  return (
    <Box sx={{ py: 0.5, borderBottom: 1, borderColor: 'divider', '&:last-child': { border: 0 } }}>
      <Link component={RouterLink} to={slotPath(s.device, s.name)} sx={{ overflowWrap: 'anywhere' }}>
        <Name of={`${s.device}/${s.name}`} />
      </Link>
      <Box
        sx={{
          display: 'flex',
          justifyContent: 'space-between',
          columnGap: 1,
          flexWrap: 'wrap',
          color: 'text.secondary',
        }}
      >
        <ConditionMark condition={s.condition} />
        <span>{says}</span>
      </Box>
    </Box>
  )
}
