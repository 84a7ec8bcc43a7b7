import Box from '@mui/material/Box'
import Breadcrumbs from '@mui/material/Breadcrumbs'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Skeleton from '@mui/material/Skeleton'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink, useParams } from 'react-router'
import { api, take, type Schemas } from '../../api/client'
import { queryClient, replacementsQuery, slotQuery } from '../../api/queries'
import { mono } from '../../app/theme'
import { Chain } from '../../parts/Chain'
import { ConditionMark, conditions } from '../../parts/Condition'
import { Findings } from '../../parts/Findings'
import { Facts, Panel } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { day, days, moment } from '../../parts/words'
import { History } from './History'
import { ReplaceDialog } from './ReplaceDialog'

/** Trust says which groups of clients trust the chain, and what the others lack. */
function Trust({ all }: { all: Schemas['Trust'][] }) {
  return (
    <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 2, mb: 1 }}>
      {all.map((t) => (
        <Typography key={t.audience} component="span" sx={{ color: t.trusted ? 'success.main' : 'error.main' }}>
          {t.trusted ? `✓ trusted by ${t.audience}` : `✕ not by ${t.audience}: it lacks ${t.lacks}`}
        </Typography>
      ))}
    </Box>
  )
}

/** SlotPage shows one slot: what it serves, what is wrong with it, what was done. */
export function SlotPage() {
  const { device = '', slot: name = '' } = useParams()
  const slot = useQuery({ ...slotQuery(device, name), refetchInterval: 10_000 })
  const past = useQuery(replacementsQuery({ device, slot: name, limit: '50' }))
  const [asking, setAsking] = useState(false)
  const read = useMutation({
    mutationFn: () => take(api.POST('/api/v1/slots/{device}/{slot}/readings', { params: { path: { device, slot: name } } })),
    onSuccess: () => queryClient.invalidateQueries({ queryKey: ['slots'] }),
  })
  if (slot.error) return <Problem error={slot.error} again={() => void slot.refetch()} />
  if (!slot.data) return <Skeleton variant="rounded" height={480} />
  const s = slot.data
  const hole = s.findings.find((f) => f.code === 'chain-incomplete')
  const underWay = past.data?.find((r) => ['running', 'waiting', 'held'].includes(r.state))
  return (
    <Box sx={{ display: 'grid', gap: 2 }}>
      <Breadcrumbs>
        <Link component={RouterLink} to="/slots">
          Slots
        </Link>
        <Link component={RouterLink} to={`/devices/${encodeURIComponent(s.device)}`}>
          {s.device}
        </Link>
      </Breadcrumbs>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 2, alignItems: 'center', justifyContent: 'space-between' }}>
        <Box sx={{ minWidth: 0 }}>
          <Typography variant="h1" sx={{ overflowWrap: 'anywhere' }}>
            {s.device}/{s.name}
          </Typography>
          <Box sx={{ display: 'flex', gap: 1, alignItems: 'center', flexWrap: 'wrap' }}>
            <ConditionMark condition={s.condition} />
            <Typography sx={{ color: 'text.secondary' }}>{conditions[s.condition].about}</Typography>
          </Box>
        </Box>
        <Box sx={{ display: 'flex', gap: 1 }}>
          <Button variant="outlined" onClick={() => read.mutate()} disabled={read.isPending}>
            {read.isPending ? 'Reading…' : 'Read now'}
          </Button>
          {underWay ? (
            <Button variant="contained" component={RouterLink} to={`/replacements/${underWay.id}`}>
              Replacement {underWay.id} is {underWay.state}
            </Button>
          ) : (
            <Button variant="contained" onClick={() => setAsking(true)} disabled={!s.replaceable}>
              Replace
            </Button>
          )}
        </Box>
      </Box>
      {!s.replaceable && <Typography sx={{ color: 'text.secondary' }}>This device has no family, so it can only be read.</Typography>}
      {read.error && <Problem error={read.error} />}
      <Box sx={{ display: 'grid', gap: 2, gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: 'minmax(0, 3fr) minmax(0, 2fr)' }, alignItems: 'start' }}>
        <Panel title="Chain as served">
          {s.trust && <Trust all={s.trust} />}
          {s.chain ? <Chain links={s.chain} incomplete={hole?.what} /> : <Typography sx={{ color: 'text.secondary' }}>Nothing could be read.</Typography>}
        </Panel>
        <Box sx={{ display: 'grid', gap: 2 }}>
          <Panel title="Findings">
            <Findings found={s.findings} />
          </Panel>
          <Panel title="Slot">
            <Facts
              rows={[
                ['Address', `${s.address}:${s.port}`],
                ['Server name', s.server_name || '–'],
                ['Names', s.certificate?.names.join(', ') || '–'],
                ['Ends', s.expires_at ? `${day(s.expires_at)} (${days(s.expires_in_days)})` : '–'],
                ['Act by', day(s.act_by)],
                ['Read', `${moment(s.read_at)} ${s.version ?? ''}`],
                ['SHA-256', <span style={{ fontFamily: mono, fontSize: 12 }}>{s.certificate?.sha256 ?? '–'}</span>],
              ]}
            />
          </Panel>
        </Box>
      </Box>
      <History device={device} slot={name} replacements={past.data ?? []} />
      {asking && <ReplaceDialog slot={s} close={() => setAsking(false)} />}
    </Box>
  )
}
