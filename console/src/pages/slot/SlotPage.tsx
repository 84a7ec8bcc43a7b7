import Box from '@mui/material/Box'
import Breadcrumbs from '@mui/material/Breadcrumbs'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink, useParams } from 'react-router'
import { api, take, type Schemas, type Slot } from '../../api/client'
import { replacementsQuery, slotQuery, useChange } from '../../api/queries'
import { Chain } from '../../parts/Chain'
import { ConditionMark, conditions } from '../../parts/Condition'
import { Findings } from '../../parts/Findings'
import { Foreign } from '../../parts/Foreign'
import { Heading } from '../../parts/Heading'
import { Loaded } from '../../parts/Loaded'
import { May } from '../../parts/May'
import { Columns, Facts, Panel, Quiet, Stack, type Fact } from '../../parts/Panel'
import { Print } from '../../parts/Print'
import { Problem } from '../../parts/Problem'
import { Term } from '../../parts/Term'
import { TakeChain } from '../../parts/Whole'
import { When } from '../../parts/When'
import { day, days, devicePath } from '../../parts/words'
import { Acknowledge } from './Acknowledge'
import { History } from './History'
import { Pins } from './Pins'
import { ReplaceDialog } from './ReplaceDialog'
import { Name } from '../../parts/Name'
import { AsCommand } from '../../parts/AsCommand'
import { command } from '../../parts/command'

/** SlotPage shows one slot: what it serves, what is wrong with it, what was done. */
export function SlotPage() {
  const { device = '', slot: name = '' } = useParams()
  const slot = useQuery({ ...slotQuery(device, name), refetchInterval: 10_000 })
  return (
    <Loaded query={slot} height={480}>
      {(s) => <Shown s={s} />}
    </Loaded>
  )
}

function Shown({ s }: { s: Slot }) {
  const past = useQuery(replacementsQuery({ device: s.device, slot: s.name, limit: '50' }))
  const [asking, setAsking] = useState(false)
  const [knowing, setKnowing] = useState(false)
  const read = useChange({
    of: 'slots',
    do: () =>
      take(
        api.POST('/api/v1/slots/{device}/{slot}/readings', { params: { path: { device: s.device, slot: s.name } } }),
      ),
  })
  const hole = s.findings.find((f) => f.code === 'chain-incomplete')
  const underWay = past.data?.find((r) => ['running', 'waiting', 'held'].includes(r.state))
  const others = s.others.map((o): Fact => [
    o.node ? `Node ${o.node}` : 'Also at',
    `${o.address}:${o.port}: ${serves(o, s.certificate?.sha256)}`,
  ])
  return (
    <Stack>
      <Breadcrumbs>
        <Link component={RouterLink} to="/slots">
          Slots
        </Link>
        <Link component={RouterLink} to={devicePath(s.device)}>
          <Name of={s.device} />
        </Link>
      </Breadcrumbs>
      <Heading
        title={<Name of={`${s.device}/${s.name}`} />}
        tab={`${s.device}/${s.name}`}
        below={
          <Box sx={{ display: 'flex', gap: 1, alignItems: 'center', flexWrap: 'wrap' }}>
            <Box role="status">
              <ConditionMark condition={s.condition} readAt={s.read_at ?? null} />
            </Box>
            <Typography sx={{ color: 'text.secondary' }}>{conditions[s.condition].about}</Typography>
            <Term of="condition" />
          </Box>
        }
      >
        <May role="operator" what="Replacing">
          {s.condition !== 'fresh' && (
            <Button variant="outlined" onClick={() => setKnowing(true)}>
              Acknowledge
            </Button>
          )}
          <Button variant="outlined" onClick={() => read.mutate()} disabled={read.isPending}>
            {read.isPending ? 'Reading…' : 'Read now'}
          </Button>
          {underWay ? (
            <Button variant="contained" component={RouterLink} to={`/replacements/${underWay.id}`}>
              Replacement {underWay.id} is {underWay.state}
            </Button>
          ) : (
            s.replaceable && (
              <Button variant="contained" onClick={() => setAsking(true)}>
                Replace
              </Button>
            )
          )}
        </May>
      </Heading>
      {!s.replaceable && (
        <Quiet>
          This device has no family, so it is only monitored. Give it one on its page to replace its certificate.
        </Quiet>
      )}
      {read.error && <Problem error={read.error} />}
      <May role="operator">
        <AsCommand what="Read now" command={command('read', `${s.device}/${s.name}`)} />
      </May>
      <Columns>
        <Panel title="Chain as served">
          {s.trust && <Trust all={s.trust} />}
          {s.chain ? <Chain links={s.chain} incomplete={hole?.what} /> : <Quiet>Nothing could be read.</Quiet>}
          {s.chain && <TakeChain device={s.device} slot={s.name} />}
        </Panel>
        <Stack>
          <Panel title="Findings">
            <Findings found={s.findings} />
          </Panel>
          <Panel title="Slot" term="slot">
            <Facts
              rows={[
                ['Address', `${s.address}:${s.port}`],
                ['Protocol', s.protocol],
                ...others,
                ['Server name', s.server_name || '–'],
                ['Names', <Foreign>{s.certificate?.names.join(', ') || '–'}</Foreign>],
                ['Serial number', <Print text={s.certificate?.serial} what="the serial number" />],
                ['Expires', s.expires_at ? `${day(s.expires_at)} (${days(s.expires_in_days)})` : '–'],
                [
                  <>
                    {s.condition === 'factory' ? 'Replace' : 'Act by'}
                    <Term of="act by" />
                  </>,
                  s.condition === 'factory' ? 'now' : day(s.act_by),
                ],
                [
                  'Read',
                  <>
                    <When at={s.read_at} /> {s.version}
                  </>,
                ],
                ['SHA-256', <Print text={s.certificate?.sha256} what="the SHA-256" />],
              ]}
            />
          </Panel>
          <Pins slot={s} />
        </Stack>
      </Columns>
      <History device={s.device} slot={s.name} replacements={past.data ?? []} />
      {knowing && <Acknowledge slot={s} close={() => setKnowing(false)} />}
      {asking && <ReplaceDialog slot={s} close={() => setAsking(false)} />}
    </Stack>
  )
}

/** Trust says which groups of clients trust the chain, and what the others lack. */
function Trust({ all }: { all: Schemas['Trust'][] }) {
  return (
    <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 2, mb: 1 }}>
      {all.map((t) => (
        <Typography key={t.trust_group} component="span" sx={{ color: t.trusted ? 'success.main' : 'error.main' }}>
          {t.trusted
            ? `✓ trusted by "${t.trust_group}"`
            : `✕ not trusted by "${t.trust_group}": root "${t.lacks}" is missing`}
        </Typography>
      ))}
    </Box>
  )
}

function serves(o: Schemas['Other'], sha256: string | undefined) {
  if (o.failure) return o.failure.what
  return o.sha256 === sha256 ? 'the same certificate' : `“${o.subject}”, SHA-256 ${o.sha256?.slice(0, 16)}…`
}
