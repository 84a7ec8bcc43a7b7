import Box from '@mui/material/Box'
import Breadcrumbs from '@mui/material/Breadcrumbs'
import Button from '@mui/material/Button'
import LinearProgress from '@mui/material/LinearProgress'
import Link from '@mui/material/Link'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink, useParams } from 'react-router'
import { api, take, type Batch, type Schemas } from '../../api/client'
import { itemsList } from '../../api/lists'
import { batchQuery, useChange } from '../../api/queries'
import { waits } from '../../parts/State'
import { Confirm } from '../../parts/Confirm'
import { Foreign } from '../../parts/Foreign'
import { Heading } from '../../parts/Heading'
import { List } from '../../parts/list/List'
import type { Column } from '../../parts/list/columns'
import { Loaded } from '../../parts/Loaded'
import { May } from '../../parts/May'
import { Panel, Quiet, Stack } from '../../parts/Panel'
import { Term } from '../../parts/Term'
import { useFilter } from '../../parts/useFilter'
import { slotPath, some, number } from '../../parts/words'
import { When } from '../../parts/When'
import { Name } from '../../parts/Name'
import { command } from '../../parts/command'

type Account = Schemas['Account']
type Item = Schemas['BatchItem']

const columns: Column<Item>[] = [
  {
    field: 'slot',
    title: 'Slot',
    sorts: true,
    always: true,
    narrow: true,
    wide: true,
    cell: (i) => (
      <Link component={RouterLink} to={slotPath(i.device, i.slot)}>
        <Name of={`${i.device}/${i.slot}`} />
      </Link>
    ),
  },
  { field: 'site', title: 'Site', sorts: true, cell: (i) => <Foreign>{i.site}</Foreign> },
  {
    field: 'replacement',
    title: 'Replacement',
    sorts: true,
    narrow: true,
    always: true,
    cell: (i) =>
      i.replacement ? (
        <Link component={RouterLink} to={`/replacements/${i.replacement}`}>
          {i.replacement} {i.state}
          {i.waiting_for && ` for ${waits(i.waiting_for)}`}
        </Link>
      ) : (
        said[i.outcome]
      ),
  },
  {
    field: 'why',
    title: 'Why',
    wide: true,
    cell: (i) => (
      <>
        <Foreign>{i.why}</Foreign>
        {i.next && <Quiet>{i.next}</Quiet>}
      </>
    ),
  },
]

const said: Record<Item['outcome'], string> = {
  waiting: 'not started yet',
  started: 'started',
  refused: 'refused',
  left: 'not started: stopped',
}
const states: Record<Batch['state'], string> = { starting: 'starting', started: 'all are started', stopped: 'stopped' }

/** BatchPage shows a batch while the service carries it, and its account. */
export function BatchPage() {
  const { id = '' } = useParams()
  const batch = useQuery({ ...batchQuery(id), refetchInterval: 2_000 })
  return <Loaded query={batch}>{(b) => <Shown b={b} />}</Loaded>
}

function Shown({ b }: { b: Batch }) {
  const [sure, setSure] = useState(false)
  const [filter, set] = useFilter('outcome', 'state')
  const stop = useChange({
    of: 'batches',
    do: () => take(api.POST('/api/v1/batches/{id}/stop', { params: { path: { id: b.id } } })),
    done: () => setSure(false),
  })
  const c = b.counts
  const over = c.sealed + c.reverted + c.cancelled + c.closed + c.refused + c.left
  return (
    <Stack>
      <Breadcrumbs>
        <Link component={RouterLink} to="/replacements?of=batches">
          Batches
        </Link>
      </Breadcrumbs>
      <Heading
        title={`Batch ${b.id}: ${some(c.slots, 'slot')}`}
        tab={`Batch ${b.id}`}
        term={<Term of="batch" />}
        below={
          <Quiet>
            {states[b.state]}
            {b.stopped_by && ` by ${b.stopped_by}`}; requested by <bdi>{b.asked_by}</bdi>, <When at={b.started_at} />;
            signer {b.signer || 'as the policy says'}
          </Quiet>
        }
      >
        {b.state === 'starting' && (
          <May role="operator">
            <Button variant="outlined" color="error" onClick={() => setSure(true)}>
              Stop starting new ones
            </Button>
          </May>
        )}
      </Heading>
      <Box role="status" aria-label="Progress">
        <LinearProgress
          variant="determinate"
          aria-label={`${over} of ${c.slots} are over`}
          value={c.slots ? (100 * over) / c.slots : 0}
          sx={{ height: 8, borderRadius: 1 }}
        />
        <Typography sx={{ mt: 0.5 }}>{account(c)}</Typography>
      </Box>
      <Panel title="Sites">
        <Box
          sx={{ display: 'grid', gridTemplateColumns: { xs: '1fr', sm: 'max-content 1fr' }, columnGap: 2, rowGap: 0.5 }}
        >
          {b.sites.map((s) => (
            <Box key={s.site} sx={{ display: 'contents' }}>
              <strong>
                <bdi>{s.site || 'no site'}</bdi>
              </strong>
              <span>{account(s)}</span>
            </Box>
          ))}
        </Box>
      </Panel>
      <TextField
        id="filter-outcome"
        select
        size="small"
        label="Show"
        value={filter.state ?? filter.outcome ?? ''}
        onChange={(e) => set(shownBy(e.target.value))}
        sx={{ width: 200 }}
      >
        <MenuItem value="">all</MenuItem>
        {['waiting', 'refused', 'left'].map((o) => (
          <MenuItem key={o} value={o}>
            {said[o as Item['outcome']]}
          </MenuItem>
        ))}
        {['held', 'sealed', 'reverted', 'cancelled', 'closed'].map((s) => (
          <MenuItem key={s} value={s}>
            {s}
          </MenuItem>
        ))}
      </TextField>
      <List
        list={itemsList(b.id)}
        filter={filter}
        columns={columns}
        id={(i) => `${i.device}/${i.slot}`}
        empty="None."
      />
      {sure && (
        <Confirm
          question="Stop starting new replacements?"
          yes="Stop starting new ones"
          pending={stop.isPending}
          error={stop.error}
          act={() => stop.mutate()}
          close={() => setSure(false)}
          command={command('batch', 'stop', b.id)}
        >
          <Typography>
            {some(c.waiting, 'slot')} of this batch would be left as they are. What was started goes on.
          </Typography>
        </Confirm>
      )}
    </Stack>
  )
}

function shownBy(value: string) {
  const outcome = ['waiting', 'refused', 'left'].includes(value)
  return { outcome: outcome ? value : '', state: outcome ? '' : value }
}

/** account writes where the slots of a batch stand, without what there is none of. */
export function account(a: Account) {
  const parts: [number, string][] = [
    [a.sealed, 'sealed'],
    [a.under_way, 'under way'],
    [a.held, 'held'],
    [a.reverted, 'reverted'],
    [a.cancelled, 'cancelled'],
    [a.closed, 'closed'],
    [a.refused, 'refused'],
    [a.waiting, 'not started yet'],
    [a.left, 'not started'],
  ]
  return parts
    .filter(([n]) => n > 0)
    .map(([n, what]) => `${number(n)} ${what}`)
    .join(', ')
}
