import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import { useQuery } from '@tanstack/react-query'
import { Link as RouterLink } from 'react-router'
import type { Replacement, Schemas } from '../../api/client'
import { readingsQuery } from '../../api/queries'
import { Foreign } from '../../parts/Foreign'
import { Columns, Panel, Quiet } from '../../parts/Panel'
import { Print } from '../../parts/Print'
import { StateMark } from '../../parts/State'
import { day, momentHere } from '../../parts/words'
import { When } from '../../parts/When'

/** Behind says who changed what a slot serves. */
function Behind({ of: r }: { of: Schemas['PastReading'] }) {
  if (r.replacement) {
    return (
      <Link component={RouterLink} to={`/replacements/${r.replacement}`}>
        {r.replacement}
      </Link>
    )
  }
  return <>{{ first: 'first seen', none: '', replacement: '', unexpected: 'somebody else' }[r.change]}</>
}

/** Strip draws a slot's history as a band: each piece is what was served for a while, its width is how long. */
function Strip({ readings }: { readings: Schemas['PastReading'][] }) {
  const pieces = readings.slice().reverse()
  const from = Date.parse(pieces[0]?.at ?? '')
  const until = Date.parse(readings[0]?.until ?? readings[0]?.at ?? '')
  if (pieces.length < 2 || !(until > from)) return null
  const tone = (r: Schemas['PastReading']) =>
    r.failure
      ? 'text.secondary'
      : r.change === 'unexpected'
        ? 'error.main'
        : r.replacement
          ? 'success.main'
          : 'primary.main'
  return (
    <Box aria-hidden sx={{ mb: 1 }}>
      <Box
        sx={{ display: 'flex', height: 22, borderRadius: '3px', overflow: 'hidden', border: 1, borderColor: 'divider' }}
      >
        {pieces.map((r) => (
          <Box
            key={r.at}
            title={`${momentHere(r.at)}: ${r.failure ? r.failure.what : r.subject}`}
            sx={{
              flex: `${Math.max((Date.parse(r.until ?? r.at) - Date.parse(r.at)) / (until - from), 0.02)} 0 4px`,
              bgcolor: r.failure ? 'transparent' : tone(r),
              borderLeft: 2,
              borderColor: tone(r),
              ...(r.failure && {
                backgroundImage: 'repeating-linear-gradient(45deg, transparent 0 4px, currentColor 4px 5px)',
                color: 'text.secondary',
              }),
            }}
          />
        ))}
      </Box>
      <Box sx={{ display: 'flex', justifyContent: 'space-between', fontSize: 12, color: 'text.secondary' }}>
        <span>{day(pieces[0]?.at)}</span>
        <span>{day(readings[0]?.until ?? readings[0]?.at)}</span>
      </Box>
    </Box>
  )
}

/** History shows what a slot served over time, and the replacements that changed it. */
export function History({ device, slot, replacements }: { device: string; slot: string; replacements: Replacement[] }) {
  const readings = useQuery(readingsQuery(device, slot))
  return (
    <Columns>
      <Panel title="History" term="reading">
        <Strip readings={readings.data ?? []} />
        <Box sx={{ overflowX: 'auto' }} tabIndex={0} role="region" aria-label="History, table">
          <Table size="small">
            <TableHead>
              <TableRow>
                <TableCell>Since</TableCell>
                <TableCell>Until</TableCell>
                <TableCell>Served</TableCell>
                <TableCell>SHA-256</TableCell>
                <TableCell>Changed by</TableCell>
              </TableRow>
            </TableHead>
            <TableBody>
              {(readings.data ?? []).map((r) => (
                <TableRow key={r.at}>
                  <TableCell sx={{ whiteSpace: 'nowrap' }}>
                    <When at={r.at} />
                  </TableCell>
                  <TableCell sx={{ whiteSpace: 'nowrap' }}>
                    <When at={r.until} />
                  </TableCell>
                  <TableCell>
                    <Foreign>{r.failure?.what ?? r.subject}</Foreign>
                  </TableCell>
                  <TableCell>
                    <Print text={r.sha256} what="the SHA-256" />
                  </TableCell>
                  <TableCell>
                    <Behind of={r} />
                  </TableCell>
                </TableRow>
              ))}
            </TableBody>
          </Table>
        </Box>
      </Panel>
      <Panel title="Replacements" term="replacement">
        {replacements.length === 0 && <Quiet>None yet.</Quiet>}
        {replacements.map((r) => (
          <Box key={r.id} sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 2, py: 0.5 }}>
            <Link component={RouterLink} to={`/replacements/${r.id}`}>
              {r.id}
            </Link>
            <StateMark replacement={r} />
            <Quiet>
              <When at={r.started_at} />, {r.signer}
            </Quiet>
          </Box>
        ))}
      </Panel>
    </Columns>
  )
}
