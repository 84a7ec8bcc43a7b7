import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { Link as RouterLink } from 'react-router'
import type { Replacement } from '../../api/client'
import { readingsQuery } from '../../api/queries'
import { mono } from '../../app/theme'
import { Panel } from '../../parts/Panel'
import { moment } from '../../parts/words'

/** History shows what a slot served over time, and the replacements that changed it. */
export function History({ device, slot, replacements }: { device: string; slot: string; replacements: Replacement[] }) {
  const readings = useQuery(readingsQuery(device, slot))
  return (
    <Box sx={{ display: 'grid', gap: 2, gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: 'minmax(0, 3fr) minmax(0, 2fr)' }, alignItems: 'start' }}>
      <Panel title="Served over time">
        <Box sx={{ overflowX: 'auto' }}>
          <Table size="small">
            <TableHead>
              <TableRow>
                <TableCell>Since</TableCell>
                <TableCell>Served</TableCell>
                <TableCell>SHA-256</TableCell>
              </TableRow>
            </TableHead>
            <TableBody>
              {(readings.data ?? []).map((r) => (
                <TableRow key={r.at}>
                  <TableCell sx={{ whiteSpace: 'nowrap' }}>{moment(r.at)}</TableCell>
                  <TableCell>{r.failure?.what ?? r.subject}</TableCell>
                  <TableCell sx={{ fontFamily: mono, fontSize: 12 }}>{r.sha256 ? `${r.sha256.slice(0, 16)}…` : '–'}</TableCell>
                </TableRow>
              ))}
            </TableBody>
          </Table>
        </Box>
      </Panel>
      <Panel title="Replacements">
        {replacements.length === 0 ? (
          <Typography sx={{ color: 'text.secondary' }}>None yet.</Typography>
        ) : (
          <Box sx={{ overflowX: 'auto' }}>
          <Table size="small">
            <TableBody>
              {replacements.map((r) => (
                <TableRow key={r.id}>
                  <TableCell>
                    <Link component={RouterLink} to={`/replacements/${r.id}`}>
                      {r.id}
                    </Link>
                  </TableCell>
                  <TableCell>{r.state}</TableCell>
                  <TableCell>{r.signer}</TableCell>
                  <TableCell sx={{ whiteSpace: 'nowrap' }}>{moment(r.begun_at)}</TableCell>
                </TableRow>
              ))}
            </TableBody>
          </Table>
          </Box>
        )}
      </Panel>
    </Box>
  )
}
