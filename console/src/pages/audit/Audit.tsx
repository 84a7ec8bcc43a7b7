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
import { moment } from '../../parts/words'

const columns: Column<Schemas['AuditEntry']>[] = [
  { field: 'id', title: 'No.', narrow: true, always: true, cell: (e) => e.id },
  { field: 'at', title: 'When', cell: (e) => <span style={{ whiteSpace: 'nowrap' }}>{moment(e.at)}</span> },
  { field: 'who', title: 'Who', narrow: true, always: true, cell: (e) => <Foreign>{e.who}</Foreign> },
  { field: 'what', title: 'What', narrow: true, always: true, cell: (e) => <Foreign>{e.what}</Foreign> },
  {
    field: 'about',
    title: 'About, and what changed',
    wide: true,
    narrow: true,
    cell: (e) => <Foreign>{e.about}</Foreign>,
  },
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

/** Audit log shows who did what and when, newest first, and verifies that nothing was changed since. */
export function Audit() {
  const [filter, set] = useFilter(...auditList.filters)
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
        <TextFilter label="Search in what and about" value={filter.text ?? ''} set={(text) => set({ text })} />
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
      />
    </Stack>
  )
}
