import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Breadcrumbs from '@mui/material/Breadcrumbs'
import Link from '@mui/material/Link'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink, useParams } from 'react-router'
import type { Replacement } from '../../api/client'
import { replacementQuery } from '../../api/queries'
import { Chain } from '../../parts/Chain'
import { Compare } from '../../parts/Compare'
import { DropZone } from '../../parts/DropZone'
import { Findings } from '../../parts/Findings'
import { Foreign } from '../../parts/Foreign'
import { Heading } from '../../parts/Heading'
import { Loaded } from '../../parts/Loaded'
import { useMay } from '../../parts/May'
import { Next } from '../../parts/Next'
import { Columns, Facts, Panel, Stack, type Fact } from '../../parts/Panel'
import { Copy, Print } from '../../parts/Print'
import { StateMark, wanted } from '../../parts/State'
import { Term } from '../../parts/Term'
import { lasted, slotPath, some } from '../../parts/words'
import { GuidedStep } from './GuidedStep'
import { Stages } from './Stages'
import { useLive } from './useLive'
import { Wishes } from './Wishes'
import { When } from '../../parts/When'
import { Name } from '../../parts/Name'

/** ReplacementPage shows a replacement while it happens, and afterwards what was done. */
export function ReplacementPage() {
  const { id = '' } = useParams()
  const [live, setLive] = useState(false)
  // What runs is followed live, or asked for where the stream broke; what waits may be let go on by somebody else.
  const r = useQuery({
    ...replacementQuery(id),
    refetchInterval: (q) =>
      q.state.data?.state === 'waiting' || (q.state.data?.state === 'running' && !live) ? 3_000 : false,
  })
  const holds = useLive(id, r.data?.state)
  if (holds !== live) setLive(holds)
  return (
    <Loaded query={r} height={480}>
      {(it) => <Shown it={it} />}
    </Loaded>
  )
}

function Shown({ it }: { it: Replacement }) {
  const offered = it.unused?.find((u) => u.acceptable)
  const byHand = it.waiting_for === 'person' || it.waiting_for === 'validation'
  return (
    <Stack>
      <Breadcrumbs>
        <Link component={RouterLink} to="/replacements">
          Replacements
        </Link>
        <Link component={RouterLink} to={slotPath(it.device, it.slot)}>
          <Name of={`${it.device}/${it.slot}`} />
        </Link>
      </Breadcrumbs>
      <Heading
        title={`Replacement ${it.id}`}
        tab={`${it.id} ${it.device}/${it.slot}`}
        term={<Term of="replacement" />}
        below={
          <Box role="status" aria-label="State">
            <StateMark replacement={it} />
          </Box>
        }
      >
        <Wishes r={it} />
      </Heading>
      {(it.why || it.closed || (it.next && !byHand)) && (
        <Alert severity={severity(it)} variant="outlined" sx={{ whiteSpace: 'pre-wrap', overflowWrap: 'anywhere' }}>
          <Foreign>{[it.why, it.closed].filter(Boolean).join('; ')}</Foreign>
          <Next say={it.next} actions={it.actions} />
        </Alert>
      )}
      {it.state === 'held' && <Held it={it} />}
      {byHand && <GuidedStep replacement={it.id} />}
      {offered && (
        <Panel title="An answer waits to be accepted">
          <Unused answer={offered} />
        </Panel>
      )}
      <Back waits={it.state === 'waiting' && it.stage === 'sign'} />
      <Columns>
        <Panel title="Stages">
          <Stages r={it} />
        </Panel>
        <Stack>
          {it.old_sha256 && (
            <Panel title="Old and new">
              <Compare
                left={{ title: 'Old', sha256: it.old_sha256 }}
                right={
                  offered
                    ? { title: 'Answer', sha256: offered.certificate.sha256 }
                    : { title: 'New', sha256: it.new_sha256, none: 'not signed yet' }
                }
              />
            </Panel>
          )}
          {(it.unused ?? []).some((u) => !u.acceptable) && (
            <Panel title="Answers that were not used">
              {(it.unused ?? [])
                .filter((u) => !u.acceptable)
                .map((u) => (
                  <Unused key={u.certificate.sha256} answer={u} />
                ))}
            </Panel>
          )}
          {it.chain && (
            <Panel title="New chain">
              <Chain links={it.chain.map((l) => ({ ...l, served: true }))} />
              {(it.findings ?? []).length > 0 && <Findings found={it.findings ?? []} />}
            </Panel>
          )}
          <Panel title="Request">
            <Facts rows={facts(it)} />
            {it.request && (
              <Box className="no-print" sx={{ display: 'flex', gap: 1.5, alignItems: 'baseline' }}>
                <Copy text={it.request.pem} what="the request" label="Copy the request as text" />
                <Link
                  href={`data:application/pkcs10,${encodeURIComponent(it.request.pem)}`}
                  download={`${it.id}-${it.device}.csr`}
                >
                  Download the request
                </Link>
              </Box>
            )}
          </Panel>
        </Stack>
      </Columns>
    </Stack>
  )
}

/** Unused is a certificate that the signer sent and that was not used, with the reason. */
function Unused({ answer: u }: { answer: NonNullable<Replacement['unused']>[number] }) {
  return (
    <Box sx={{ mb: 2 }}>
      <Facts
        rows={[
          ...((u.findings ?? []).length === 0 ? [['Not used', <Foreign>{u.why}</Foreign>] as Fact] : []),
          ['Subject', <Foreign>{u.certificate.subject}</Foreign>],
          ['Issuer', <Foreign>{u.certificate.issuer}</Foreign>],
          ['Expires', <When at={u.certificate.not_after} />],
          ['SHA-256', <Print text={u.certificate.sha256} what="its SHA-256" />],
          [
            'Came',
            <>
              <When at={u.came_at} />, from <Foreign>{u.came_by}</Foreign>
            </>,
          ],
        ]}
      />
      {(u.findings ?? []).length > 0 && <Findings found={u.findings ?? []} />}
    </Box>
  )
}

const which = {
  before: 'The old certificate',
  new: 'The new certificate',
  other: 'A third certificate',
  unknown: 'Not known',
}

/** Held shows what a person needs to decide: why the way back did not come to its end, and what each address serves. */
function Held({ it }: { it: Replacement }) {
  const rows = (it.serves ?? []).map((v): Fact => [which[v.which], <Foreign>{v.text}</Foreign>])
  if (it.back) rows.unshift(['The way back', <Foreign>{it.back}</Foreign>])
  return (
    <Panel title="What is served now">
      <Facts rows={rows} />
    </Panel>
  )
}

function facts(it: Replacement): Fact[] {
  return [
    ...(it.plan.names.length > 0
      ? ([
          ['Names', <Foreign>{it.plan.names.join(', ')}</Foreign>],
          ['Key', it.request?.key ?? it.plan.key],
          ['Subject', <Foreign>{it.request?.subject ?? '–'}</Foreign>],
        ] as Fact[])
      : ([['Request', 'The device chooses subject, names and key itself.']] as Fact[])),
    ...(it.plan.client_use ? ([['Uses', 'TLS server and client']] as Fact[]) : []),
    ...(it.plan.cautions ?? []).map((caution): Fact => ['Caution', <Foreign>{caution}</Foreign>]),
    ...(it.differs ?? []).map((d): Fact => [
      `Differs: ${d.field.replace('_', ' ')}`,
      <Foreign>{`planned “${d.planned}”, in the request “${d.made}”`}</Foreign>,
    ]),
    ...Object.entries(it.plan.dropped ?? {}).map(([field, value]): Fact => [
      `Not asked for: ${field}`,
      <Foreign>{`“${value}”: the family has no place for it in its request`}</Foreign>,
    ]),
    ['Signer', it.signer],
    [
      'Requested by',
      <>
        <Foreign>{it.asked_by}</Foreign>, <When at={it.started_at} />
      </>,
    ],
    ...(it.state === 'sealed' ? [['Took', `${lasted(it.started_at, it.changed_at)}, waits included`] as Fact] : []),
    ...(it.approved_by ? [['Approved by', <Foreign>{it.approved_by}</Foreign>] as Fact] : []),
    ...(it.former ?? []).map((f): Fact => [
      'Obsolete',
      <Foreign>{`${f.sha256.slice(0, 16)}…, requested again by ${f.by}: ${f.reason}`}</Foreign>,
    ]),
    ...(it.not_before ? [['Not before', <When at={it.not_before} />] as Fact] : []),
    ...(it.stop_after ? [['Stops after', it.stop_after] as Fact] : []),
    ...(it.paused_by ? [['Paused by', <Foreign>{it.paused_by}</Foreign>] as Fact] : []),
    ...(it.any_time ? [['Outside its windows', <Foreign>{it.any_time}</Foreign>] as Fact] : []),
    ...(it.retry_of ? [['Retry of', it.retry_of] as Fact] : []),
    ...(it.kept_files ?? []).map((f): Fact => [
      'Kept off the device',
      <>
        <Foreign>{f.name}</Foreign>, {some(f.bytes, 'byte')}, <When at={f.at} />; an admin exports it with: freshseal
        replacement file {it.id} <Foreign>{f.name}</Foreign>
      </>,
    ]),
    ...(it.kept
      ? [['Kept for another try', `until ${it.kept.until.slice(0, 10)}: ${it.kept.what.join(', ')}`] as Fact]
      : []),
    ['Old', <Print text={it.old_sha256} what="the old SHA-256" />],
    ['New', <Print text={it.new_sha256} what="the new SHA-256" />],
  ]
}

/** severity is how loud a state is: what a person asked for is no fault. */
export function severity(r: Replacement) {
  if (r.state === 'waiting' || r.state === 'cancelled' || r.state === 'closed' || wanted(r)) return 'info'
  if (r.leftover) return 'warning'
  return r.state === 'sealed' ? 'success' : 'error'
}

/** Back takes what the signer sent, here too; its account stays when the replacement has gone on. */
function Back({ waits }: { waits: boolean }) {
  const [waited, setWaited] = useState(waits)
  const operator = useMay('operator')
  if (waits && !waited) setWaited(true)
  return waited && operator ? <DropZone /> : null
}
