import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import Paper from '@mui/material/Paper'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { Link as RouterLink } from 'react-router'
import { replacementsQuery } from '../../api/queries'
import { Problem } from '../../parts/Problem'
import { StateMark } from '../../parts/State'
import { moment } from '../../parts/words'

/** Replacements lists what is under way and what was done, newest first. */
export function Replacements() {
  const all = useQuery(replacementsQuery({ limit: '200' }))
  if (all.error) return <Problem error={all.error} again={() => void all.refetch()} />
  return (
    <Box sx={{ display: 'grid', gap: 2 }}>
      <Typography variant="h1">Replacements</Typography>
      {all.data?.length === 0 ? (
        <Typography sx={{ color: 'text.secondary' }}>
          None yet. Choose a slot on the page <Link component={RouterLink} to="/slots">Slots</Link> and press Replace.
        </Typography>
      ) : (
        <Paper sx={{ overflowX: 'auto' }}>
          <Table size="small">
            <TableHead>
              <TableRow>
                {['Id', 'Slot', 'State', 'Signer', 'Begun', 'Asked for by'].map((h) => (
                  <TableCell key={h}>{h}</TableCell>
                ))}
              </TableRow>
            </TableHead>
            <TableBody>
              {(all.data ?? []).map((r) => (
                <TableRow key={r.id} hover>
                  <TableCell>
                    <Link component={RouterLink} to={`/replacements/${r.id}`}>
                      {r.id}
                    </Link>
                  </TableCell>
                  <TableCell>
                    {r.device}/{r.slot}
                  </TableCell>
                  <TableCell>
                    <StateMark replacement={r} />
                  </TableCell>
                  <TableCell>{r.signer}</TableCell>
                  <TableCell sx={{ whiteSpace: 'nowrap' }}>{moment(r.begun_at)}</TableCell>
                  <TableCell>{r.asked_by}</TableCell>
                </TableRow>
              ))}
            </TableBody>
          </Table>
        </Paper>
      )}
    </Box>
  )
}
