import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Paper from '@mui/material/Paper'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import Typography from '@mui/material/Typography'
import { useInfiniteQuery, useMutation } from '@tanstack/react-query'
import { api, take } from '../../api/client'
import { mono } from '../../app/theme'
import { Problem } from '../../parts/Problem'
import { moment } from '../../parts/words'

/** Ledger shows who did what and when, newest first, and verifies that nothing was changed since. */
export function Ledger() {
  const entries = useInfiniteQuery({
    queryKey: ['ledger'],
    initialPageParam: '',
    queryFn: async ({ pageParam }) => (await take(api.GET('/api/v1/ledger', { params: { query: { before: pageParam } } }))).items,
    getNextPageParam: (last) => (last.length === 200 ? String(last[last.length - 1]?.id) : undefined),
  })
  const verify = useMutation({ mutationFn: () => take(api.GET('/api/v1/ledger/verification')) })
  if (entries.error) return <Problem error={entries.error} again={() => void entries.refetch()} />
  return (
    <Box sx={{ display: 'grid', gap: 2 }}>
      <Box sx={{ display: 'flex', justifyContent: 'space-between', alignItems: 'center', gap: 2, flexWrap: 'wrap' }}>
        <Typography variant="h1">Ledger</Typography>
        <Button variant="outlined" onClick={() => verify.mutate()} disabled={verify.isPending}>
          Verify
        </Button>
      </Box>
      {verify.error && <Problem error={verify.error} />}
      {verify.data && (
        <Typography role="status" sx={{ color: verify.data.whole ? 'success.main' : 'error.main', fontWeight: 600 }}>
          {verify.data.whole ? `✓ All ${verify.data.entries} entries are as they were written.` : `✕ ${verify.data.fault}`}
        </Typography>
      )}
      <Paper sx={{ overflowX: 'auto' }}>
        <Table size="small">
          <TableHead>
            <TableRow>
              {['', 'When', 'Who', 'What', 'About', 'Hash'].map((h, i) => (
                <TableCell key={i}>{h}</TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody>
            {(entries.data?.pages ?? []).flat().map((e) => (
              <TableRow key={e.id}>
                <TableCell>{e.id}</TableCell>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>{moment(e.at)}</TableCell>
                <TableCell>{e.who}</TableCell>
                <TableCell>{e.what}</TableCell>
                <TableCell sx={{ overflowWrap: 'anywhere' }}>{e.about}</TableCell>
                <TableCell sx={{ fontFamily: mono, fontSize: 12 }}>{e.hash.slice(0, 12)}…</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </Paper>
      {entries.hasNextPage && <Button onClick={() => void entries.fetchNextPage()}>Older entries</Button>}
    </Box>
  )
}
