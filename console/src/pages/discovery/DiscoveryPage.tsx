import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import LinearProgress from '@mui/material/LinearProgress'
import Link from '@mui/material/Link'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import { useQuery } from '@tanstack/react-query'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useId, useRef, useState } from 'react'
import { Link as RouterLink, useNavigate, useParams } from 'react-router'
import * as v from 'valibot'
import { api, take, type Schemas } from '../../api/client'
import { sitesQuery, discoveryQuery, discoveriesQuery, useChange } from '../../api/queries'
import { Choice, Field } from '../../parts/form/Field'
import { Form } from '../../parts/form/Form'
import { Foreign } from '../../parts/Foreign'
import { Heading } from '../../parts/Heading'
import { Loaded } from '../../parts/Loaded'
import { May, useMay } from '../../parts/May'
import { FieldGrid, Panel, Quiet, Row, Stack } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { VirtualRows } from '../../parts/VirtualRows'
import { devicePath, some, words } from '../../parts/words'
import { When } from '../../parts/When'
import { AsCommand } from '../../parts/AsCommand'
import { command, option, options } from '../../parts/command'

type Discovery = Schemas['Discovery']

/** DiscoveryPage searches undocumented networks and shows what was found. */
export function DiscoveryPage() {
  const { id } = useParams()
  return (
    <Stack>
      <Heading title="Discovery" tab="Discovery" />
      {id ? <Shown id={id} /> : <Begin />}
      <All current={id} />
    </Stack>
  )
}

function Begin() {
  const id = useId()
  const navigate = useNavigate()
  const sites = useQuery(sitesQuery)
  if (!useMay('admin')) return <Quiet>Discovery needs the role admin.</Quiet>
  return (
    <Panel title="Start a discovery">
      <Form
        id={id}
        label="Start a discovery"
        schema={v.object({
          ranges: v.pipe(v.string(), v.trim(), v.nonEmpty('A range is needed.')),
          except: v.string(),
          ports: v.string(),
          rate: v.pipe(v.string(), v.regex(/^\d{0,3}$/, 'Connections a second are a number from 1 to 500.')),
          site: v.string(),
        })}
        start={{ ranges: '', except: '', ports: '', rate: '', site: '' }}
        submit="Start"
        said="Started"
        of="discoveries"
        send={(x) =>
          take(
            api.POST('/api/v1/discoveries', {
              body: {
                ranges: words(x.ranges),
                except: words(x.except),
                ports: words(x.ports),
                ...(x.rate && { rate: Number(x.rate) }),
                ...(x.site && { site: x.site }),
              },
            }),
          )
        }
        command={(x) =>
          x.ranges.trim() &&
          command(
            ...['discover', 'start', ...words(x.ranges), ...options('except', words(x.except))],
            ...[...options('port', words(x.ports)), ...option('rate', x.rate), ...option('site', x.site)],
          )
        }
        done={(s) => void navigate(`/discovery/${s.id}`)}
      >
        <FieldGrid>
          <Field
            name="ranges"
            label="Networks, ranges, addresses and host names"
            multiline
            help="192.0.2.0/24, 192.0.2.10-192.0.2.20; nothing else is connected to"
          />
          <Field name="except" label="Except" multiline help="networks, ranges and addresses that are left out" />
          <Field name="ports" label="Ports" help="such as 443 or 25/smtp; empty: 443, 8443, 636, 993, 3389" />
          <Field name="rate" label="Connections a second" type="number" help="empty: 50" />
          <Choice
            name="site"
            label="Through the site"
            options={[
              { value: '', label: 'none: directly' },
              ...(sites.data ?? []).map((s) => ({ value: s.name, label: s.name })),
            ]}
          />
        </FieldGrid>
      </Form>
    </Panel>
  )
}

function All({ current }: { current: string | undefined }) {
  const all = useQuery(discoveriesQuery)
  return (
    <Panel
      title="Discoveries"
      action={
        current && (
          <Button size="small" variant="outlined" component={RouterLink} to="/discovery">
            Start a discovery
          </Button>
        )
      }
    >
      <Loaded query={all}>
        {(list) => (
          <>
            {list.length === 0 && <Quiet>No discovery has run yet.</Quiet>}
            {list.map((s) => (
              <Row key={s.id}>
                <Link component={RouterLink} to={`/discovery/${s.id}`}>
                  {s.id}
                </Link>
                <span>{s.asked.ranges.join(', ')}</span>
                <Quiet grow>
                  {some(s.found, 'service')} found, <When at={s.began_at} />, {s.by}
                </Quiet>
                <span>{s.ended_at ? s.why || 'ended' : `${s.done} of ${s.total}`}</span>
              </Row>
            ))}
          </>
        )}
      </Loaded>
    </Panel>
  )
}

function Shown({ id }: { id: string }) {
  const found = useQuery(discoveryQuery(id))
  return (
    <Loaded query={found} height={320}>
      {(s) => (
        <>
          <Progress s={s} />
          <Proposals s={s} />
          <Finds s={s} />
        </>
      )}
    </Loaded>
  )
}

function Progress({ s }: { s: Discovery }) {
  const stop = useChange({
    of: 'discoveries',
    do: () => take(api.POST('/api/v1/discoveries/{id}/stop', { params: { path: { id: s.id } } })),
  })
  if (s.ended_at) return null
  return (
    <Panel
      title={`${s.done} of ${some(s.total, 'address')} and ports scanned`}
      action={
        <May role="admin">
          <Button size="small" color="error" onClick={() => stop.mutate()} disabled={stop.isPending}>
            Stop
          </Button>
        </May>
      }
    >
      <LinearProgress variant="determinate" value={(100 * s.done) / Math.max(1, s.total)} aria-label="Discovery" />
      {stop.error && <Problem error={stop.error} />}
      <May role="admin">
        <AsCommand command={command('discover', 'stop', s.id)} />
      </May>
    </Panel>
  )
}

function Proposals({ s }: { s: Schemas['DiscoveryResult'] }) {
  const open = s.proposals.filter((p) => !p.known)
  const [chosen, setChosen] = useState<Set<string>>(new Set())
  const admin = useMay('admin')
  const adopt = useChange({
    of: 'discoveries',
    do: (devices: string[]) =>
      take(api.POST('/api/v1/discoveries/{id}/adoptions', { params: { path: { id: s.id } }, body: { devices } })),
    done: (out) => out.done && setChosen(new Set()),
  })
  const box = useRef<HTMLDivElement>(null)
  const rows = useVirtualizer({
    count: open.length,
    getScrollElement: () => box.current,
    estimateSize: () => 32,
    overscan: 12,
  })
  const drawn = rows.getVirtualItems()
  const toggle = (name: string) =>
    setChosen((was) => (was.has(name) ? new Set([...was].filter((n) => n !== name)) : new Set([...was, name])))
  return (
    <Panel
      title={`${some(open.length, 'device')} not in the fleet, ${s.proposals.length - open.length} known`}
      action={
        admin &&
        open.length > 0 && (
          <Box sx={{ display: 'flex', gap: 1 }}>
            <Button
              size="small"
              variant="outlined"
              disabled={chosen.size === 0 || adopt.isPending}
              onClick={() => adopt.mutate([...chosen])}
            >
              Adopt {chosen.size || ''} chosen
            </Button>
            <Button
              size="small"
              variant="contained"
              disabled={adopt.isPending}
              onClick={() => adopt.mutate(open.map((p) => p.name))}
            >
              Adopt all
            </Button>
          </Box>
        )
      }
    >
      {adopt.error && <Problem error={adopt.error} />}
      {admin && open.length > 0 && (
        <AsCommand command={command('discover', 'adopt', s.id, ...(chosen.size > 0 ? chosen : ['--all']))} />
      )}
      {adopt.data && (
        <Quiet>
          {adopt.data.done
            ? `${some(adopt.data.added.length, 'device')} added; their slots are read now.`
            : 'Nothing was added.'}
          {adopt.data.wrong.map((w) => ` ${w.device}: ${w.why}.`)}
        </Quiet>
      )}
      {open.length > 0 && (
        <Box
          ref={box}
          sx={{ overflow: 'auto', maxHeight: 560 }}
          tabIndex={0}
          role="region"
          aria-label="Proposed devices"
        >
          <Table size="small" stickyHeader>
            <TableHead>
              <TableRow>
                {['', 'Device', 'Slots', 'Serves', 'Same elsewhere', 'Looks like'].map((h) => (
                  <TableCell key={h}>{h}</TableCell>
                ))}
              </TableRow>
            </TableHead>
            <TableBody>
              <Spacer height={drawn[0]?.start ?? 0} />
              {drawn.map((at) => {
                const p = open[at.index]
                return (
                  p && (
                    <TableRow key={p.name} data-index={at.index} ref={rows.measureElement}>
                      <TableCell padding="checkbox">
                        {admin && (
                          <Checkbox
                            size="small"
                            checked={chosen.has(p.name)}
                            onChange={() => toggle(p.name)}
                            slotProps={{ input: { 'aria-label': p.name } }}
                          />
                        )}
                      </TableCell>
                      <TableCell>{p.name}</TableCell>
                      <TableCell>{p.slots.map((slot) => `${slot.name}=${slot.port}`).join(' ')}</TableCell>
                      <TableCell>{p.factory ? 'factory default' : 'a certificate'}</TableCell>
                      <TableCell>{p.same || ''}</TableCell>
                      <TableCell>{p.families.join(', ')}</TableCell>
                    </TableRow>
                  )
                )
              })}
              <Spacer height={rows.getTotalSize() - (drawn.at(-1)?.end ?? 0)} />
            </TableBody>
          </Table>
        </Box>
      )}
    </Panel>
  )
}

/** Spacer takes the place of rows that are not drawn. */
function Spacer({ height }: { height: number }) {
  if (height <= 0) return null
  return (
    <TableRow aria-hidden>
      <TableCell colSpan={6} sx={{ height, p: 0, border: 0 }} />
    </TableRow>
  )
}

function Finds({ s }: { s: Schemas['DiscoveryResult'] }) {
  return (
    <Panel title={some(s.finds.length, 'answer')}>
      {s.finds.length === 0 && <Quiet>Nothing has answered{s.ended_at ? '.' : ' yet.'}</Quiet>}
      {s.finds.length > 0 && (
        <VirtualRows
          about="Answers"
          items={s.finds}
          row={(f) => (
            <Row>
              <Box component="span" sx={{ minWidth: 150 }}>
                {f.address}:{f.port}
              </Box>
              <Foreign>{f.certificate?.name ?? f.failure?.what}</Foreign>
              <Quiet grow>
                {f.shared_key ? 'factory default with a known key' : f.factory ? 'factory default' : ''}
                {f.default && ` of ${f.default}`}
                {f.same > 0 && `; the same at ${some(f.same, 'other address')}`}
              </Quiet>
              {f.slot && (
                <Link component={RouterLink} to={devicePath(f.slot.split('/')[0] ?? '')}>
                  {f.slot}
                </Link>
              )}
            </Row>
          )}
        />
      )}
    </Panel>
  )
}
