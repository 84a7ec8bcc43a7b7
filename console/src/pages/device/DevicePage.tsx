import Box from '@mui/material/Box'
import Breadcrumbs from '@mui/material/Breadcrumbs'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Tab from '@mui/material/Tab'
import Tabs from '@mui/material/Tabs'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { Fragment, useState } from 'react'
import { Link as RouterLink, useNavigate, useParams, useSearchParams } from 'react-router'
import { api, take, type Device, type Schemas } from '../../api/client'
import { deviceQuery, replacementsQuery, slotQuery, slotsQuery, useChange } from '../../api/queries'
import { Chain } from '../../parts/Chain'
import { ConditionMark, conditions } from '../../parts/Condition'
import { Confirm } from '../../parts/Confirm'
import { Findings } from '../../parts/Findings'
import { Foreign } from '../../parts/Foreign'
import { Heading } from '../../parts/Heading'
import { Loaded } from '../../parts/Loaded'
import { May } from '../../parts/May'
import { Facts, Panel, Quiet, Row, Stack, type Fact } from '../../parts/Panel'
import { Print } from '../../parts/Print'
import { Problem } from '../../parts/Problem'
import { StateMark } from '../../parts/State'
import { day, days, slotPath } from '../../parts/words'
import { familiesQuery } from '../../api/queries'
import { linkNames, linksOf, type SignIn } from '../../parts/HostKey'
import { useMay } from '../../parts/May'
import { EditDevice } from './EditDevice'
import { When } from '../../parts/When'
import { Name } from '../../parts/Name'
import { AsCommand } from '../../parts/AsCommand'
import { command } from '../../parts/command'

const sections = { slots: 'Slots', about: 'Device', replacements: 'Replacements' } as const
type Section = keyof typeof sections

/**
 * DevicePage shows one box, section by section: its slots, what it is and how it is reached, and what was done on it.
 */
export function DevicePage() {
  const { name = '' } = useParams()
  const found = useQuery({ ...deviceQuery(name), refetchInterval: 15_000 })
  return (
    <Loaded query={found} height={480}>
      {(d) => <Shown d={d} />}
    </Loaded>
  )
}

function Shown({ d }: { d: Device }) {
  const [search, setSearch] = useSearchParams()
  const wanted = search.get('section') ?? 'slots'
  const section: Section = wanted in sections ? (wanted as Section) : 'slots'
  const navigate = useNavigate()
  const [dialog, setDialog] = useState<'edit' | 'remove' | SignIn | null>(null)
  const path = { params: { path: { name: d.name } } }
  const attempt = useChange({ of: 'devices', do: () => take(api.POST('/api/v1/devices/{name}/tries', path)) })
  const remove = useChange({
    of: 'devices',
    do: () => take(api.DELETE('/api/v1/devices/{name}', path)),
    done: () => void navigate('/devices'),
  })
  return (
    <Stack>
      <Breadcrumbs>
        <Link component={RouterLink} to="/devices">
          Devices
        </Link>
        {d.site ? (
          <Link component={RouterLink} to={`/devices?site=${encodeURIComponent(d.site)}`}>
            <bdi>{d.site}</bdi>
          </Link>
        ) : (
          <span>no site</span>
        )}
      </Breadcrumbs>
      <Heading
        title={<Name of={d.name} />}
        tab={d.name}
        below={
          <Box sx={{ display: 'flex', gap: 1, flexWrap: 'wrap' }}>
            <Box role="status">
              <ConditionMark condition={d.condition} />
            </Box>
            <Typography sx={{ color: 'text.secondary' }}>{conditions[d.condition].about}</Typography>
          </Box>
        }
      >
        <May role="operator">
          <Button variant="contained" disabled={attempt.isPending} onClick={() => attempt.mutate()}>
            {attempt.isPending ? 'Trying…' : 'Try the connection'}
          </Button>
        </May>
        <May role="admin" what="Changing a device">
          <Button variant="outlined" onClick={() => setDialog('edit')}>
            Edit
          </Button>
          <Button variant="outlined" color="error" onClick={() => setDialog('remove')}>
            Remove
          </Button>
        </May>
      </Heading>
      {attempt.error && <Problem error={attempt.error} />}
      <May role="operator">
        <AsCommand what="Try the connection" command={command('device', 'try', d.name)} />
      </May>
      {attempt.data && <Looks attempt={attempt.data} />}
      <Tabs
        value={section}
        onChange={(_, to: Section) => setSearch(to === 'slots' ? {} : { section: to })}
        aria-label="Sections"
        sx={{ borderBottom: 1, borderColor: 'divider', minHeight: 40 }}
      >
        {(Object.keys(sections) as Section[]).map((s) => (
          <Tab
            key={s}
            value={s}
            label={sections[s]}
            id={`tab-${s}`}
            aria-controls={`section-${s}`}
            sx={{ minHeight: 40 }}
          />
        ))}
      </Tabs>
      <Box role="tabpanel" id={`section-${section}`} aria-labelledby={`tab-${section}`}>
        {section === 'slots' && <Slots d={d} />}
        {section === 'about' && (
          <Panel title="Device">
            <About d={d} edit={setDialog} />
          </Panel>
        )}
        {section === 'replacements' && <Past d={d} />}
      </Box>
      {dialog && dialog !== 'edit' && dialog !== 'remove' && (
        <EditDevice device={d} link={dialog} close={() => setDialog(null)} />
      )}
      {dialog === 'edit' && <EditDevice device={d} close={() => setDialog(null)} />}
      {dialog === 'remove' && (
        <Confirm
          question={`Remove ${d.name}?`}
          yes="Remove"
          pending={remove.isPending}
          error={remove.error}
          act={() => remove.mutate()}
          close={() => setDialog(null)}
        >
          <Typography>
            Its history, its secrets and the records of its replacements are deleted. Nothing is changed on the device.
          </Typography>
        </Confirm>
      )}
    </Stack>
  )
}

function Slots({ d }: { d: Device }) {
  const slots = useQuery(slotsQuery({ device: d.name }))
  return (
    <Panel title="Slots" term="slot">
      {slots.data === undefined && (
        <Loaded query={slots} height={220}>
          {() => null}
        </Loaded>
      )}
      {(slots.data ?? []).map((s) => (
        <Box key={s.name} sx={{ py: 1, borderBottom: 1, borderColor: 'divider', '&:last-child': { border: 0 } }}>
          <Box sx={{ display: 'flex', columnGap: 2, flexWrap: 'wrap', alignItems: 'baseline' }}>
            <Link component={RouterLink} to={slotPath(s.device, s.name)} sx={{ fontWeight: 600 }}>
              {s.name}
            </Link>
            <ConditionMark condition={s.condition} />
            <span>
              {s.address}:{s.port}
            </span>
            <Foreign>{s.subject}</Foreign>
            <Quiet>{s.expires_at ? `expires ${day(s.expires_at)}, ${days(s.expires_in_days)}` : 'not read yet'}</Quiet>
          </Box>
          <Served device={s.device} slot={s.name} />
        </Box>
      ))}
    </Panel>
  )
}

/** Served draws what a slot serves, who trusts it, and what is wrong with it. */
function Served({ device, slot }: { device: string; slot: string }) {
  const found = useQuery(slotQuery(device, slot))
  return (
    <Box sx={{ pt: 1 }}>
      <Loaded query={found} height={160}>
        {(s) => (
          <Box sx={{ display: 'grid', gap: 1 }}>
            {s.chain && (
              <Chain links={s.chain} incomplete={s.findings.find((f) => f.code === 'chain-incomplete')?.what} />
            )}
            {s.findings.length > 0 && <Findings found={s.findings} />}
          </Box>
        )}
      </Loaded>
    </Box>
  )
}

function Past({ d }: { d: Device }) {
  const past = useQuery(replacementsQuery({ device: d.name, limit: '50' }))
  return (
    <Panel title="Replacements" term="replacement">
      {past.data?.length === 0 && <Quiet>No replacements yet. Open a slot and press Replace.</Quiet>}
      {(past.data ?? []).map((r) => (
        <Row key={r.id}>
          <Link component={RouterLink} to={`/replacements/${r.id}`}>
            {r.id} {r.slot}
          </Link>
          <StateMark replacement={r} />
          <Quiet>
            <When at={r.started_at} />, {r.signer}, <bdi>{r.asked_by}</bdi>
          </Quiet>
        </Row>
      ))}
    </Panel>
  )
}

function About({ d, edit }: { d: Device; edit: (link: SignIn) => void }) {
  const admin = useMay('admin')
  const families = useQuery(familiesQuery).data ?? []
  const links = linksOf(families.find((f) => f.name === d.family)?.links)
  const change = (link: SignIn) =>
    admin && (
      <Button size="small" onClick={() => edit(link)} aria-label={`Edit how it is reached over ${linkNames[link]}`}>
        Edit
      </Button>
    )
  const rows: Fact[] = [
    ['Address', d.address],
    [
      'Family',
      d.family ? (
        <Link component={RouterLink} to={`/families#${d.family}`}>
          {d.family}
        </Link>
      ) : (
        'none: monitored only'
      ),
    ],
  ]
  for (const a of d.access) {
    const who = a.credential ? `credential ${a.credential}` : a.user
    rows.push(
      [
        `Over ${a.link}`,
        <>
          <Foreign>{`${who}, ${a.address && `${a.address}, `}port ${a.port}`}</Foreign>{' '}
          {linksOf([a.link]).map((link) => (
            <Fragment key={link}>{change(link)}</Fragment>
          ))}
        </>,
      ],
      [`${a.link} pin`, <Print text={a.pin} what="the pin" />],
    )
    for (const [name, value] of Object.entries(a.options))
      rows.push([`${a.link} option`, `${name.replaceAll('_', ' ')}: ${value}`])
  }
  for (const link of links.filter((l) => !d.access.some((a) => a.link === l)))
    rows.push([`Over ${link}`, <>not set {change(link)}</>])
  for (const n of d.nodes) rows.push([`Node ${n.name}`, n.address])
  if (d.cluster) rows.push(['Cluster', <Foreign>{`${d.cluster} ${d.cluster_role}`}</Foreign>])
  if (d.owner) rows.push(['Owner', <Foreign>{d.owner}</Foreign>])
  if (d.tags.length) rows.push(['Tags', <Foreign>{d.tags.join(' ')}</Foreign>])
  if (d.notes) rows.push(['Notes', <Foreign>{d.notes}</Foreign>])
  for (const [name, value] of Object.entries(d.settings)) rows.push([`Setting ${name}`, <Foreign>{value}</Foreign>])
  rows.push(['Added', <When at={d.added_at} />])
  return <Facts rows={rows} />
}

function Looks({ attempt }: { attempt: Schemas['Try'] }) {
  return (
    <Panel title={attempt.ok ? 'The connection works' : 'The connection does not work'}>
      {attempt.looks.map((l) => (
        <Box key={l.what} data-ok={l.ok} sx={{ py: 0.5 }}>
          <Typography sx={{ fontWeight: 600, color: l.ok ? 'success.main' : 'error.main' }}>
            {l.ok ? '✓' : '✕'} {l.what}
          </Typography>
          <Typography>
            <Foreign>{l.said}</Foreign>
          </Typography>
          {l.next && (
            <Typography>
              <strong>Next:</strong> {l.next}
            </Typography>
          )}
        </Box>
      ))}
    </Panel>
  )
}
