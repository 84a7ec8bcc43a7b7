import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import { useQuery } from '@tanstack/react-query'
import { Link as RouterLink } from 'react-router'
import { api, take } from '../../api/client'
import { acknowledgedQuery, noticesQuery, useChange } from '../../api/queries'
import { Foreign } from '../../parts/Foreign'
import { Heading } from '../../parts/Heading'
import { Loaded } from '../../parts/Loaded'
import { May, useMay } from '../../parts/May'
import { Columns, Panel, Quiet, Row, Stack } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { day } from '../../parts/words'
import { Channels } from './Channels'
import { NoticeRules } from './NoticeRules'
import { When } from '../../parts/When'
import { AsCommand } from '../../parts/AsCommand'
import { command } from '../../parts/command'

const states = { sent: 'sent', waiting: 'to be sent', failed: 'could not be sent' }

/** Notices shows who is told of what: the rules, the channels, what was told, and of what somebody knows. */
export function Notices() {
  const admin = useMay('admin')
  return (
    <Stack>
      <Heading title="Notices" tab="Notices" />
      <Columns>
        <NoticeRules />
        <Stack>
          {admin && <Channels />}
          <Known />
        </Stack>
      </Columns>
      <Log />
    </Stack>
  )
}

/** Known lists the slots of which somebody knows. */
function Known() {
  const all = useQuery(acknowledgedQuery)
  const withdraw = useChange({
    of: 'notices',
    do: (slot: string) => {
      const [device = '', name = ''] = slot.split('/')
      return take(
        api.DELETE('/api/v1/slots/{device}/{slot}/acknowledgement', { params: { path: { device, slot: name } } }),
      )
    },
  })
  return (
    <Panel title="Acknowledged">
      <Loaded query={all}>
        {(list) => (
          <>
            {list.length === 0 && <Quiet>No slot is acknowledged. Do it on the page of a slot.</Quiet>}
            {list.map((a) => (
              <Row key={a.slot}>
                <Link component={RouterLink} to={`/slots/${a.slot}`}>
                  {a.slot}
                </Link>
                <Quiet grow>
                  until {day(a.until)}, {a.by}: <Foreign>{a.reason}</Foreign>
                </Quiet>
                <May role="operator">
                  <Button size="small" onClick={() => withdraw.mutate(a.slot)} disabled={withdraw.isPending}>
                    Withdraw
                  </Button>
                  <AsCommand command={command('notice', 'withdraw', a.slot)} />
                </May>
              </Row>
            ))}
            {withdraw.error && <Problem error={withdraw.error} />}
          </>
        )}
      </Loaded>
    </Panel>
  )
}

/** Log shows the newest notices and what became of them. */
function Log() {
  const all = useQuery(noticesQuery())
  return (
    <Panel title="Sent notices">
      <Loaded query={all}>
        {(list) =>
          list.length === 0 ? (
            <Quiet>Nobody was told of anything yet.</Quiet>
          ) : (
            <Box sx={{ overflowX: 'auto' }} tabIndex={0} role="region" aria-label="Notices, table">
              <Table size="small">
                <TableHead>
                  <TableRow>
                    {['At', 'About', 'Stage', 'Rule', 'Over', 'State'].map((h) => (
                      <TableCell key={h}>{h}</TableCell>
                    ))}
                  </TableRow>
                </TableHead>
                <TableBody>
                  {list.map((n) => (
                    <TableRow key={n.id}>
                      <TableCell sx={{ whiteSpace: 'nowrap' }}>
                        <When at={n.at} />
                      </TableCell>
                      <TableCell sx={{ overflowWrap: 'anywhere' }}>
                        <Link component={RouterLink} to={n.what ? '/ahead' : `/slots/${n.slot}`}>
                          {n.what || n.slot}
                        </Link>
                      </TableCell>
                      <TableCell>
                        {n.kind === 'notice'
                          ? n.stage
                          : n.kind === 'reminder'
                            ? `${n.stage}, reminder ${n.reminders}`
                            : 'over'}
                      </TableCell>
                      <TableCell>{n.rule}</TableCell>
                      <TableCell>{n.over}</TableCell>
                      <TableCell sx={n.state === 'failed' ? { color: 'error.main' } : undefined}>
                        {states[n.state]}
                        {n.error && <Quiet>{n.error}</Quiet>}
                      </TableCell>
                    </TableRow>
                  ))}
                </TableBody>
              </Table>
            </Box>
          )
        }
      </Loaded>
    </Panel>
  )
}
