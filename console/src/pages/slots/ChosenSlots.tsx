import Button from '@mui/material/Button'
import Paper from '@mui/material/Paper'
import Typography from '@mui/material/Typography'
import Box from '@mui/material/Box'
import { Suspense, lazy, useState } from 'react'
import { chunk } from '../../api/chunk'
import { chosen, none, type Choice } from '../../parts/list/choice'
import { rowsWanted } from '../../parts/list/rows'
import type { Filter } from '../../api/lists'
import { some, number } from '../../parts/words'

const BatchDialog = lazy(async () => ({ default: (await chunk(import('./BatchDialog'))).BatchDialog }))

type Props = { choice: Choice; total: number | undefined; filter: Filter; choose: (choice: Choice) => void }

/** ChosenSlots is what can be done with several slots together. */
export function ChosenSlots({ choice, total, filter, choose }: Props) {
  const [replacing, setReplacing] = useState(false)
  const n = chosen(choice, total)
  if (n === 0) return null
  return (
    <Paper component="section" aria-label="Chosen slots" sx={{ p: 1.5 }}>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, alignItems: 'center' }}>
        <Typography role="status" sx={{ fontWeight: 600 }}>
          {number(n)} chosen{choice.all && ', all that match the filter'}
        </Typography>
        {!choice.all && total !== undefined && total > n && n >= Math.min(rowsWanted().size, total) && (
          <Button size="small" onClick={() => choose({ all: true, names: new Set() })}>
            Choose all {number(total)} that match the filter
          </Button>
        )}
        <Button size="small" variant="contained" onClick={() => setReplacing(true)}>
          Replace {some(n, 'slot')}
        </Button>
        <Button size="small" onClick={() => choose(none)}>
          Choose none
        </Button>
      </Box>
      {replacing && (
        <Suspense>
          <BatchDialog
            slots={choice.all ? undefined : [...choice.names]}
            filter={filter}
            close={() => setReplacing(false)}
          />
        </Suspense>
      )}
    </Paper>
  )
}
