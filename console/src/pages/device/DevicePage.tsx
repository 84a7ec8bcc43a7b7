import Box from '@mui/material/Box'
import Breadcrumbs from '@mui/material/Breadcrumbs'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Skeleton from '@mui/material/Skeleton'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink, useNavigate, useParams } from 'react-router'
import { api, take, type Device, type Schemas } from '../../api/client'
import { deviceQuery, queryClient, replacementsQuery, slotQuery, slotsQuery } from '../../api/queries'
import { mono } from '../../app/theme'
import { Chain } from '../../parts/Chain'
import { ConditionMark, conditions } from '../../parts/Condition'
import { Confirm } from '../../parts/Confirm'
import { Findings } from '../../parts/Findings'
import { Facts, Panel } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { StateMark } from '../../parts/State'
import { day, days, moment } from '../../parts/words'
import { EditDevice } from './EditDevice'

/** DevicePage shows one box: what it is, how it is reached, its slots, and what was done on it. */
export function DevicePage() {
  const { name = '' } = useParams()
  const found = useQuery(deviceQuery(name))
  const slots = useQuery(slotsQuery({ device: name }))
  const past = useQuery(replacementsQuery({ device: name, limit: '20' }))
  const navigate = useNavigate()
  const [dialog, setDialog] = useState<'edit' | 'remove' | null>(null)
  const attempt = useMutation({
    mutationFn: () => take(api.POST('/api/v1/devices/{name}/tries', { params: { path: { name } } })),
    onSuccess: () => queryClient.invalidateQueries(),
  })
  const remove = useMutation({
    mutationFn: () => take(api.DELETE('/api/v1/devices/{name}', { params: { path: { name } } })),
    onSuccess: () => navigate('/devices'),
  })
  if (found.error) return <Problem error={found.error} again={() => void found.refetch()} />
  if (!found.data) return <Skeleton variant="rounded" height={480} />
  const { device: d, etag } = found.data
  return (
    <Box sx={{ display: 'grid', gap: 2 }}>
      <Breadcrumbs>
        <Link component={RouterLink} to="/devices">
          Devices
        </Link>
        <Typography sx={{ color: 'text.primary' }}>{d.site || 'no site'}</Typography>
      </Breadcrumbs>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 2, alignItems: 'center', justifyContent: 'space-between' }}>
        <Box sx={{ minWidth: 0 }}>
          <Typography variant="h1" sx={{ overflowWrap: 'anywhere' }}>
            {d.name}
          </Typography>
          <Box sx={{ display: 'flex', gap: 1, flexWrap: 'wrap' }}>
            <ConditionMark condition={d.condition} />
            <Typography sx={{ color: 'text.secondary' }}>{conditions[d.condition].about}</Typography>
          </Box>
        </Box>
        <Box sx={{ display: 'flex', gap: 1, flexWrap: 'wrap' }}>
          <Button variant="contained" disabled={attempt.isPending} onClick={() => attempt.mutate()}>
            {attempt.isPending ? 'Trying…' : 'Try the connection'}
          </Button>
          <Button variant="outlined" onClick={() => setDialog('edit')}>
            Edit
          </Button>
          <Button variant="outlined" color="error" onClick={() => setDialog('remove')}>
            Remove
          </Button>
        </Box>
      </Box>
      {(attempt.error ?? remove.error) && <Problem error={attempt.error ?? remove.error} />}
      {attempt.data && <Looks attempt={attempt.data} />}
      <Box sx={{ display: 'grid', gap: 2, gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: 'minmax(0, 3fr) minmax(0, 2fr)' }, alignItems: 'start' }}>
        <Box sx={{ display: 'grid', gap: 2 }}>
          <Panel title="Slots">
            {(slots.data ?? []).map((s) => (
              <Box key={s.name} sx={{ py: 1, borderBottom: 1, borderColor: 'divider', '&:last-child': { border: 0 } }}>
                <Box sx={{ display: 'flex', gap: 2, flexWrap: 'wrap', alignItems: 'baseline' }}>
                  <Link component={RouterLink} to={`/slots/${encodeURIComponent(s.device)}/${encodeURIComponent(s.name)}`} sx={{ fontWeight: 600 }}>
                    {s.name}
                  </Link>
                  <ConditionMark condition={s.condition} />
                  <span>
                    {s.address}:{s.port}
                  </span>
                  <span>{s.subject}</span>
                  <Box component="span" sx={{ color: 'text.secondary' }}>
                    {s.expires_at ? `ends ${day(s.expires_at)}, ${days(s.expires_in_days)}` : 'not read yet'}
                  </Box>
                </Box>
                <Served device={s.device} slot={s.name} />
              </Box>
            ))}
          </Panel>
          <Panel title="Replacements">
            {(past.data ?? []).length === 0 && <Typography sx={{ color: 'text.secondary' }}>None yet. Open a slot and press Replace.</Typography>}
            {(past.data ?? []).map((r) => (
              <Box key={r.id} sx={{ display: 'flex', gap: 2, flexWrap: 'wrap', py: 0.5 }}>
                <Link component={RouterLink} to={`/replacements/${r.id}`}>
                  {r.id} {r.slot}
                </Link>
                <StateMark replacement={r} />
                <Box component="span" sx={{ color: 'text.secondary' }}>
                  {moment(r.begun_at)}, {r.signer}, {r.asked_by}
                </Box>
              </Box>
            ))}
          </Panel>
        </Box>
        <Panel title="Device">
          <About d={d} />
        </Panel>
      </Box>
      {dialog === 'edit' && <EditDevice device={d} etag={etag} close={() => setDialog(null)} />}
      {dialog === 'remove' && <Confirm question={`Forget ${d.name} with its history and secrets?`} yes="Remove" act={() => remove.mutate()} close={() => setDialog(null)} />}
    </Box>
  )
}

/** Served draws what a slot serves, who trusts it, and what is wrong with it. */
function Served({ device, slot }: { device: string; slot: string }) {
  const s = useQuery(slotQuery(device, slot)).data
  if (!s) return null
  return (
    <Box sx={{ display: 'grid', gap: 1, pt: 1 }}>
      {s.chain && <Chain links={s.chain} incomplete={s.findings.find((f) => f.code === 'chain-incomplete')?.what} />}
      {s.findings.length > 0 && <Findings found={s.findings} />}
    </Box>
  )
}

function About({ d }: { d: Device }) {
  const signsIn = d.credential ? `credential ${d.credential}` : d.ssh_user
  const rows: [string, React.ReactNode][] = [
    ['Address', d.address],
    ['Family', d.family ? <Link component={RouterLink} to={`/families#${d.family}`}>{d.family}</Link> : 'none: it can only be read'],
  ]
  if (d.host_key) rows.push(['Signs in as', `${signsIn}, port ${d.ssh_port}`], ['Host key', <span style={{ fontFamily: mono, fontSize: 12 }}>{d.host_key}</span>])
  if (d.old_ssh) rows.push(['Old SSH', 'algorithms that are broken are allowed'])
  if (d.cluster) rows.push(['Cluster', `${d.cluster} ${d.cluster_role}`])
  if (d.owner) rows.push(['Owner', d.owner])
  if (d.tags.length) rows.push(['Tags', d.tags.join(' ')])
  if (d.notes) rows.push(['Notes', d.notes])
  for (const [name, value] of Object.entries(d.settings)) rows.push([name, value])
  rows.push(['Added', moment(d.added_at)])
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
          <Typography sx={{ overflowWrap: 'anywhere' }}>{l.said}</Typography>
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
