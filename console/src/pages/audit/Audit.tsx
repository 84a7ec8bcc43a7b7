import Link from '@mui/material/Link'
import { Fragment } from 'react'
import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation } from '@tanstack/react-query'
import { api, take, type Schemas } from '../../api/client'
import { auditList } from '../../api/lists'
import { Foreign } from '../../parts/Foreign'
import { Heading } from '../../parts/Heading'
import { List } from '../../parts/list/List'
import type { Column } from '../../parts/list/columns'
import { Stack } from '../../parts/Panel'
import { Copy } from '../../parts/Print'
import { Problem } from '../../parts/Problem'
import { Term } from '../../parts/Term'
import { TextFilter } from '../../parts/TextFilter'
import { useFilter } from '../../parts/useFilter'
import { Link as RouterLink } from 'react-router'
import { Name } from '../../parts/Name'
import { devicePath, slotPath } from '../../parts/words'
import { When } from '../../parts/When'
import { useMay } from '../../parts/May'
import { SentOn } from './SentOn'
import { AsCommand } from '../../parts/AsCommand'
import { command } from '../../parts/command'

const columns: Column<Schemas['AuditEntry']>[] = [
  { field: 'id', title: 'No.', sorts: true, narrow: true, always: true, cell: (e) => e.id },
  {
    field: 'at',
    title: 'When',
    sorts: 'id',
    cell: (e) => <When at={e.at} />,
  },
  { field: 'who', title: 'Who', sorts: true, narrow: true, always: true, cell: (e) => <Foreign>{e.who}</Foreign> },
  { field: 'what', title: 'What', sorts: true, narrow: true, always: true, cell: (e) => <Foreign>{e.what}</Foreign> },
  {
    field: 'about',
    title: 'About, and what changed',
    sorts: true,
    wide: true,
    narrow: true,
    cell: (e) => <About of={e.about} />,
  },
  {
    field: 'through',
    title: 'By which session or token',
    extra: true,
    cell: (e) => <Foreign>{e.through ?? ''}</Foreign>,
  },
  { field: 'address', title: 'From', extra: true, cell: (e) => <Foreign>{e.address ?? ''}</Foreign> },
  {
    field: 'hash',
    title: 'Hash',
    cell: (e) => (
      <span style={{ whiteSpace: 'nowrap' }}>
        {e.hash.slice(0, 8)}… <Copy text={`${e.id}:${e.hash}`} what={`the head ${e.id}`} />
      </span>
    ),
  },
]

const thing = new RegExp(
  '(?<![\\w.-])(?:(?<replacement>r\\d+)|(?<batch>b\\d+)|' +
    '(?<device>[a-z0-9][a-z0-9-]{0,62}(?:\\.[a-z0-9-]{1,63}){0,30}\\.[a-z][a-z0-9-]{0,62})(?:/(?<slot>[a-z0-9-]{1,63}))?)' +
    '(?![\\w.-])',
  'gu',
)

/** About is what an entry is about, with links to the replacements, batches, slots and devices that it names. */
function About({ of }: { of: string }) {
  const found = [...of.matchAll(thing)].slice(0, 20)
  return (
    <>
      {found.map((m, i) => (
        <Fragment key={i}>
          <Foreign>{of.slice(end(found[i - 1]), m.index)}</Foreign>
          <Link component={RouterLink} to={placeOf(m.groups ?? {})}>
            <Name of={m[0]} />
          </Link>
        </Fragment>
      ))}
      <Foreign>{of.slice(end(found.at(-1)))}</Foreign>
    </>
  )
}

const end = (m: RegExpExecArray | undefined) => (m ? m.index + m[0].length : 0)

function placeOf({ replacement, batch, device = '', slot }: Record<string, string | undefined>) {
  if (replacement) return `/replacements/${replacement}`
  if (batch) return `/batches/${batch}`
  return slot ? slotPath(device, slot) : devicePath(device)
}

const period = (filter: { from?: string; until?: string }) => ({
  ...(filter.from && { from: filter.from }),
  ...(filter.until && { until: filter.until }),
})

/** Audit log shows who did what and when, newest first, and verifies that nothing was changed since. */
export function Audit() {
  const [filter, set] = useFilter(...auditList.filters)
  const admin = useMay('admin')
  const verify = useMutation({ mutationFn: () => take(api.GET('/api/v1/audit/verification')) })
  const bound = (name: 'from' | 'until', label: string) => (
    <TextField
      id={`audit-${name}`}
      size="small"
      type="date"
      label={label}
      value={filter[name] ?? ''}
      onChange={(e) => set({ [name]: e.target.value })}
      slotProps={{ inputLabel: { shrink: true } }}
      className="no-print"
    />
  )
  return (
    <Stack>
      <Heading title="Audit log" tab="Audit log" term={<Term of="audit" />}>
        <TextFilter label="Search the entries" value={filter.text ?? ''} set={(text) => set({ text })} />
        <TextField
          id="audit-who"
          size="small"
          label="Who"
          value={filter.who ?? ''}
          onChange={(e) => set({ who: e.target.value })}
          className="no-print"
          sx={{ width: 130 }}
        />
        {bound('from', 'From')}
        {bound('until', 'Until')}
        <Button variant="outlined" onClick={() => verify.mutate()} disabled={verify.isPending}>
          Verify
        </Button>
      </Heading>
      <AsCommand what="Verify" command={command('audit', 'verify')} />
      {verify.error && <Problem error={verify.error} />}
      {verify.data && (
        <Typography role="status" sx={{ color: verify.data.whole ? 'success.main' : 'error.main', fontWeight: 600 }}>
          {verify.data.whole
            ? `✓ All ${verify.data.entries} entries are as they were written.`
            : `✕ ${verify.data.fault}`}
        </Typography>
      )}
      <List
        list={auditList}
        filter={filter}
        columns={columns}
        id={(e) => String(e.id)}
        empty="No entry fits the filter."
        tools={
          <>
            <Button
              size="small"
              color="inherit"
              href={`/api/v1/audit.csv?${new URLSearchParams(filter).toString()}`}
              download="audit.csv"
            >
              Download as CSV
            </Button>
            <Button
              size="small"
              color="inherit"
              href={`/api/v1/audit.jsonl?${new URLSearchParams(period(filter)).toString()}`}
              download="audit.jsonl"
              title="All entries of the period; verified without the service by: freshseal audit verify FILE"
            >
              Download to be verified
            </Button>
          </>
        }
      />
      {admin && <SentOn />}
    </Stack>
  )
}
