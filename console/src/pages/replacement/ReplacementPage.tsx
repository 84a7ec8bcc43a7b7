import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Breadcrumbs from '@mui/material/Breadcrumbs'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Skeleton from '@mui/material/Skeleton'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink, useParams } from 'react-router'
import { api, take, type Replacement } from '../../api/client'
import { queryClient, replacementQuery } from '../../api/queries'
import { mono } from '../../app/theme'
import { Chain } from '../../parts/Chain'
import { DropZone } from '../../parts/DropZone'
import { Findings } from '../../parts/Findings'
import { Facts, Panel } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { StateMark } from '../../parts/State'
import { moment } from '../../parts/words'
import { AskAgain, canAskAgain } from './AskAgain'
import { GuidedStep } from './GuidedStep'
import { Stages } from './Stages'
import { useLive } from './useLive'

/** ReplacementPage shows a replacement while it happens, and afterwards what was done. */
export function ReplacementPage() {
  const { id = '' } = useParams()
  // What runs is followed live; what waits may be let go on by somebody else.
  const r = useQuery({ ...replacementQuery(id), refetchInterval: (q) => (q.state.data?.state === 'waiting' ? 3_000 : false) })
  useLive(id, r.data?.state)
  if (r.error) return <Problem error={r.error} again={() => void r.refetch()} />
  if (!r.data) return <Skeleton variant="rounded" height={480} />
  const it = r.data
  const slot = `/slots/${encodeURIComponent(it.device)}/${encodeURIComponent(it.slot)}`
  return (
    <Box sx={{ display: 'grid', gap: 2 }}>
      <Breadcrumbs>
        <Link component={RouterLink} to="/replacements">
          Replacements
        </Link>
        <Link component={RouterLink} to={slot}>
          {it.device}/{it.slot}
        </Link>
      </Breadcrumbs>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 2, alignItems: 'center', justifyContent: 'space-between' }}>
        <Box>
          <Typography variant="h1">Replacement {it.id}</Typography>
          <StateMark replacement={it} />
        </Box>
        <Wishes r={it} />
      </Box>
      {(it.why || (it.next && it.waiting_for !== 'person' && it.waiting_for !== 'validation')) && (
        <Alert severity={it.state === 'waiting' ? 'info' : it.leftover ? 'warning' : it.state === 'sealed' ? 'success' : 'error'} variant="outlined" sx={{ whiteSpace: 'pre-wrap', overflowWrap: 'anywhere' }}>
          {it.why}
          {it.next && (
            <div>
              <strong>Next:</strong> {it.next}
            </div>
          )}
        </Alert>
      )}
      {(it.waiting_for === 'person' || it.waiting_for === 'validation') && <GuidedStep replacement={it.id} />}
      <Back waits={it.state === 'waiting' && it.stage === 'sign'} />
      <Box sx={{ display: 'grid', gap: 2, gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: 'minmax(0, 3fr) minmax(0, 2fr)' }, alignItems: 'start' }}>
        <Panel title="Stages">
          <Stages r={it} />
        </Panel>
        <Box sx={{ display: 'grid', gap: 2 }}>
          {it.chain && (
            <Panel title="New chain">
              <Chain links={it.chain.map((l) => ({ ...l, served: true }))} />
              {(it.findings ?? []).length > 0 && <Findings found={it.findings ?? []} />}
            </Panel>
          )}
          <Panel title="Request">
            <Facts
              rows={[
                ['Names', it.plan.names.join(', ')],
                ['Key', it.request?.key ?? it.plan.key],
                ['Subject', it.request?.subject ?? '–'],
                ['Signer', it.signer],
                ['Asked for by', `${it.asked_by}, ${moment(it.begun_at)}`],
                ...(it.approved_by ? [['Approved by', it.approved_by] as [string, string]] : []),
                ...(it.former ?? []).map((f) => ['Obsolete', `${f.sha256.slice(0, 16)}…, asked for anew by ${f.by}: ${f.reason}`] as [string, string]),
                ['Old', <Print text={it.old_sha256} />],
                ['New', <Print text={it.new_sha256} />],
              ]}
            />
            {it.request && <CopyRequest pem={it.request.pem} />}
          </Panel>
        </Box>
      </Box>
    </Box>
  )
}

/** Back takes what the signer sent, here too; its account stays when the replacement has gone on. */
function Back({ waits }: { waits: boolean }) {
  const [waited, setWaited] = useState(waits)
  if (waits && !waited) setWaited(true)
  return waited ? <DropZone /> : null
}

function Print({ text }: { text: string }) {
  return <span style={{ fontFamily: mono, fontSize: 12 }}>{text || '–'}</span>
}

function CopyRequest({ pem }: { pem: string }) {
  const copy = useMutation({ mutationFn: () => navigator.clipboard.writeText(pem) })
  return (
    <Button size="small" sx={{ mt: 1 }} onClick={() => copy.mutate()}>
      {copy.isSuccess ? 'Copied' : copy.isError ? 'The browser does not allow copying' : 'Copy the request as text'}
    </Button>
  )
}

// In these stages the device may serve something else than before.
const touched = ['trust', 'install', 'trial', 'activate', 'prove', 'mirror', 'seal']

type Wish = 'approve' | 'cancel' | 'revert' | 'resume' | 'done' | 'again' | 'clear'

/** Wishes are what a person can ask of a replacement as it stands. */
function Wishes({ r }: { r: Replacement }) {
  const [again, setAgain] = useState(false)
  const ask = useMutation({
    mutationFn: (what: Wish) => {
      const params = { params: { path: { id: r.id } } }
      if (what === 'clear') return take(api.POST('/api/v1/replacements/{id}/clear', params))
      if (what === 'done' || what === 'again') return take(api.POST('/api/v1/replacements/{id}/resume', { params: { ...params.params, query: { step: what } } }))
      if (what === 'approve') return take(api.POST('/api/v1/replacements/{id}/approve', params))
      if (what === 'cancel') return take(api.POST('/api/v1/replacements/{id}/cancel', params))
      if (what === 'revert') return take(api.POST('/api/v1/replacements/{id}/revert', params))
      return take(api.POST('/api/v1/replacements/{id}/resume', params))
    },
    onSettled: () => queryClient.invalidateQueries({ queryKey: ['replacements'] }),
  })
  const last = r.steps?.[r.steps.length - 1]
  const unknown = last?.outcome === 'unknown' ? last : undefined
  const open = r.state === 'waiting' || r.state === 'held' || (r.state === 'running' && !r.stopping && !r.reverting)
  return (
    <Box>
      <Box sx={{ display: 'flex', gap: 1 }}>
        {r.waiting_for === 'approval' && (
          <Button variant="contained" onClick={() => ask.mutate('approve')} disabled={ask.isPending}>
            Approve
          </Button>
        )}
        {r.state === 'held' && !unknown && (
          <Button variant="contained" onClick={() => ask.mutate('resume')} disabled={ask.isPending}>
            Resume
          </Button>
        )}
        {r.state === 'held' && unknown && (
          <>
            <Button variant="contained" onClick={() => ask.mutate('done')} disabled={ask.isPending}>
              The step was done: go on
            </Button>
            <Button variant="outlined" onClick={() => ask.mutate('again')} disabled={ask.isPending}>
              Do the step again
            </Button>
          </>
        )}
        {r.leftover && (
          <Button variant="contained" onClick={() => ask.mutate('clear')} disabled={ask.isPending}>
            Clear what is left
          </Button>
        )}
        {canAskAgain(r) && (
          <Button variant="outlined" onClick={() => setAgain(true)}>
            Ask again
          </Button>
        )}
        {open && (
          <Button variant="outlined" color="error" onClick={() => ask.mutate('cancel')} disabled={ask.isPending}>
            Cancel
          </Button>
        )}
        {(r.state === 'sealed' || (r.state === 'held' && touched.includes(r.stage))) && (
          <Button variant="outlined" color="error" onClick={() => ask.mutate('revert')} disabled={ask.isPending}>
            Revert
          </Button>
        )}
      </Box>
      {r.state === 'held' && unknown && (
        <Typography sx={{ mt: 1 }}>
          Nobody knows whether the step “{unknown.name}” was done. Look at the device first.
        </Typography>
      )}
      {r.leftover && <Typography sx={{ mt: 1, color: 'warning.main' }}>Left on the device: {r.leftover}</Typography>}
      {ask.error && <Problem error={ask.error} />}
      {again && <AskAgain r={r} close={() => setAgain(false)} />}
    </Box>
  )
}
