import Link from '@mui/material/Link'
import MenuItem from '@mui/material/MenuItem'
import Tab from '@mui/material/Tab'
import Tabs from '@mui/material/Tabs'
import TextField from '@mui/material/TextField'
import { Link as RouterLink, useNavigate, useSearchParams } from 'react-router'
import type { Batch, Replacement } from '../../api/client'
import { batchesList, replacementsList } from '../../api/lists'
import { Foreign } from '../../parts/Foreign'
import { Heading } from '../../parts/Heading'
import { List } from '../../parts/list/List'
import { Filters } from '../../parts/list/Filters'
import { Views } from '../../parts/list/Views'
import type { Column } from '../../parts/list/columns'
import { Stack } from '../../parts/Panel'
import { StateMark, states } from '../../parts/State'
import { Term } from '../../parts/Term'
import { TextFilter } from '../../parts/TextFilter'
import { useFilter } from '../../parts/useFilter'
import { slotPath, number } from '../../parts/words'
import { When } from '../../parts/When'
import { Name } from '../../parts/Name'

// Of these it matters why.
const stuck: Replacement['state'][] = ['held', 'reverted', 'cancelled']

const columns: Column<Replacement>[] = [
  {
    field: 'id',
    title: 'Id',
    sorts: true,
    always: true,
    narrow: true,
    cell: (r) => (
      <Link component={RouterLink} to={`/replacements/${r.id}`} sx={{ fontWeight: 600 }}>
        {r.id}
      </Link>
    ),
  },
  {
    field: 'state',
    title: 'State',
    sorts: true,
    always: true,
    narrow: true,
    cell: (r) => <StateMark replacement={r} />,
  },
  {
    field: 'slot',
    title: 'Slot',
    sorts: true,
    always: true,
    narrow: true,
    wide: true,
    cell: (r) => (
      <Link component={RouterLink} to={slotPath(r.device, r.slot)}>
        <Name of={`${r.device}/${r.slot}`} />
      </Link>
    ),
  },
  {
    field: 'why',
    title: 'Why',
    sorts: true,
    wide: true,
    cell: (r) => stuck.includes(r.state) && <Foreign>{r.why}</Foreign>,
  },
  { field: 'signer', title: 'Signer', sorts: true, cell: (r) => r.signer },
  {
    field: 'started_at',
    title: 'Started',
    sorts: true,
    cell: (r) => <When at={r.started_at} />,
  },
  { field: 'asked_by', title: 'Requested by', sorts: true, cell: (r) => <bdi>{r.asked_by}</bdi> },
]

const batchColumns: Column<Batch>[] = [
  {
    field: 'id',
    title: 'Id',
    sorts: true,
    always: true,
    narrow: true,
    cell: (b) => (
      <Link component={RouterLink} to={`/batches/${b.id}`} sx={{ fontWeight: 600 }}>
        {b.id}
      </Link>
    ),
  },
  { field: 'state', title: 'State', always: true, narrow: true, cell: (b) => b.state },
  { field: 'slots', title: 'Slots', narrow: true, cell: (b) => number(b.counts.slots) },
  { field: 'sealed', title: 'Sealed', narrow: true, cell: (b) => number(b.counts.sealed) },
  { field: 'open', title: 'Under way', cell: (b) => number(b.counts.under_way + b.counts.waiting) },
  { field: 'wrong', title: 'Held or refused', cell: (b) => number(b.counts.held + b.counts.refused) },
  { field: 'started_at', title: 'Started', sorts: true, cell: (b) => <When at={b.started_at} /> },
  { field: 'asked_by', title: 'Requested by', sorts: true, cell: (b) => <bdi>{b.asked_by}</bdi> },
]

/** Replacements lists what is under way and what was done, newest first; batches stand in a list of their own. */
export function Replacements() {
  const [search, setSearch] = useSearchParams()
  const batches = search.get('of') === 'batches'
  const [filter, set] = useFilter(...replacementsList.filters)
  const navigate = useNavigate()
  return (
    <Stack>
      <Heading
        title="Replacements"
        tab={batches ? 'Batches' : 'Replacements'}
        term={<Term of={batches ? 'batch' : 'replacement'} />}
      >
        {!batches && <TextFilter label="Search in this list" value={filter.text ?? ''} set={(text) => set({ text })} />}
        {!batches && <Views page="replacements" />}
      </Heading>
      <Tabs
        value={batches ? 'batches' : 'single'}
        onChange={(_, to: string) => setSearch(to === 'batches' ? { of: 'batches' } : {})}
        aria-label="Lists"
        sx={{ minHeight: 40, borderBottom: 1, borderColor: 'divider' }}
      >
        <Tab value="single" label="Replacements" sx={{ minHeight: 40 }} />
        <Tab value="batches" label="Batches" sx={{ minHeight: 40 }} />
      </Tabs>
      {batches ? (
        <List
          key="batches"
          list={batchesList}
          filter={{}}
          columns={batchColumns}
          id={(b) => b.id}
          open={(b) => void navigate(`/batches/${b.id}`)}
          empty="No batches yet. Choose several slots on the page Slots and press Replace."
        />
      ) : (
        <>
          <div style={{ display: 'flex', flexWrap: 'wrap', gap: 8 }}>
            <TextField
              id="filter-state"
              select
              size="small"
              label="State"
              value={filter.state ?? ''}
              onChange={(e) => set({ state: e.target.value })}
              sx={{ minWidth: 140 }}
            >
              <MenuItem value="">any</MenuItem>
              {states.map((s) => (
                <MenuItem key={s} value={s}>
                  {s}
                </MenuItem>
              ))}
            </TextField>
            <Filters filter={filter} set={set} by={['signer']} />
          </div>
          <List
            key="single"
            list={replacementsList}
            filter={filter}
            columns={columns}
            id={(r) => r.id}
            open={(r) => void navigate(`/replacements/${r.id}`)}
            empty={
              Object.keys(filter).length > 0 ? (
                'No replacement fits the filter.'
              ) : (
                <>
                  None yet. Choose a slot on the page{' '}
                  <Link component={RouterLink} to="/slots">
                    Slots
                  </Link>{' '}
                  and press Replace.
                </>
              )
            }
          />
        </>
      )}
    </Stack>
  )
}
