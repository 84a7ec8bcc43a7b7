import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Paper from '@mui/material/Paper'
import Typography from '@mui/material/Typography'
import { Suspense, lazy, useState } from 'react'
import { chunk } from '../../api/chunk'
import { api, take, type Schemas } from '../../api/client'
import { useChange } from '../../api/queries'
import { Confirm } from '../../parts/Confirm'
import { chosen, none, type Choice as Chosen } from '../../parts/list/choice'
import { rowsWanted } from '../../parts/list/rows'
import { Quiet } from '../../parts/Panel'
import type { Filter } from '../../api/lists'
import { some, number } from '../../parts/words'
import { command } from '../../parts/command'

const ChangeMany = lazy(async () => ({ default: (await chunk(import('./ChangeMany'))).ChangeMany }))

type Props = { choice: Chosen; total: number | undefined; filter: Filter; choose: (choice: Chosen) => void }
type Outcome = Schemas['Changed']

/** ChosenDevices is what can be done with several devices together. */
export function ChosenDevices({ choice, total, filter, choose }: Props) {
  const [dialog, setDialog] = useState<'change' | 'remove' | null>(null)
  const [outcome, setOutcome] = useState<Outcome>()
  const remove = useChange({
    of: 'devices',
    do: async () => {
      const refused: Outcome['refused'] = []
      for (const name of choice.names) {
        try {
          await take(api.DELETE('/api/v1/devices/{name}', { params: { path: { name } } }))
        } catch (e) {
          refused.push({ device: name, why: e instanceof Error ? e.message : String(e) })
        }
      }
      return { changed: choice.names.size - refused.length, refused }
    },
    done: (out: Outcome) => {
      setOutcome(out)
      setDialog(null)
      choose({ all: false, names: new Set(out.refused.map((r) => r.device)) })
    },
  })
  const n = chosen(choice, total)
  if (n === 0 && !outcome) return null // what became of those that are gone is still told
  return (
    <Paper component="section" aria-label="Chosen devices" sx={{ p: 1.5, display: 'grid', gap: 1 }}>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, alignItems: 'center' }}>
        <Typography role="status" sx={{ fontWeight: 600 }}>
          {number(n)} chosen{choice.all && ', all that match the filter'}
        </Typography>
        {!choice.all && total !== undefined && total > n && n >= Math.min(rowsWanted().size, total) && (
          <Button size="small" onClick={() => choose({ all: true, names: new Set() })}>
            Choose all {number(total)} that match the filter
          </Button>
        )}
        <Button size="small" variant="contained" disabled={n === 0} onClick={() => setDialog('change')}>
          Change {some(n, 'device')}
        </Button>
        <Button
          size="small"
          variant="outlined"
          color="error"
          disabled={n === 0 || choice.all}
          onClick={() => setDialog('remove')}
        >
          Remove
        </Button>
        <Button
          size="small"
          onClick={() => {
            setOutcome(undefined)
            choose(none)
          }}
        >
          Choose none
        </Button>
      </Box>
      <Quiet>To replace the certificates of many, choose their slots on the page Slots.</Quiet>
      {outcome && <Account of={outcome} />}
      {dialog === 'change' && (
        <Suspense>
          <ChangeMany
            n={n}
            which={choice.all ? { filter } : { devices: [...choice.names] }}
            done={setOutcome}
            close={() => setDialog(null)}
          />
        </Suspense>
      )}
      {dialog === 'remove' && (
        <Confirm
          question={`Remove ${some(n, 'device')}?`}
          yes="Remove"
          pending={remove.isPending}
          error={remove.error}
          act={() => remove.mutate()}
          close={() => setDialog(null)}
          command={[...choice.names].map((name) => command('device', 'remove', name)).join(' && ')}
        >
          <Typography>
            Their history, their secrets and the records of their replacements are deleted. Nothing is changed on the
            devices.
          </Typography>
          <Box component="ul" sx={{ maxHeight: 200, overflow: 'auto' }}>
            {[...choice.names].map((name) => (
              <li key={name}>
                <bdi>{name}</bdi>
              </li>
            ))}
          </Box>
        </Confirm>
      )}
    </Paper>
  )
}

function Account({ of: o }: { of: Outcome }) {
  return (
    <Box role="status">
      <Typography sx={{ fontWeight: 600 }}>
        {some(o.changed, 'device')} done{o.refused.length > 0 && `, ${o.refused.length} refused`}
      </Typography>
      {o.refused.slice(0, 100).map((r) => (
        <Typography key={r.device} variant="body2" sx={{ color: 'error.main', overflowWrap: 'anywhere' }}>
          {r.device}: {r.why}
          {r.next && `; ${r.next}`}
        </Typography>
      ))}
    </Box>
  )
}
