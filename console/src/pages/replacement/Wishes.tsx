import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { api, take, type Replacement } from '../../api/client'
import { sessionQuery, useChange } from '../../api/queries'
import { command, option } from '../../parts/command'
import { Compare } from '../../parts/Compare'
import { Confirm } from '../../parts/Confirm'
import { Findings } from '../../parts/Findings'
import { Foreign } from '../../parts/Foreign'
import { useMay } from '../../parts/May'
import { Facts, Quiet, type Fact } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { AskAgain, canAskAgain } from './AskAgain'

// In these stages the device may serve something else than before.
const touched = ['trust', 'install', 'trial', 'activate', 'prove', 'mirror', 'seal']

type Wish =
  | 'accept'
  | 'approve'
  | 'go'
  | 'go-anyway'
  | 'pause'
  | 'cancel'
  | 'revert'
  | 'resume'
  | 'done'
  | 'not-done'
  | 'repeat'
  | 'clear'
  | 'retry'
  | 'close-new'
  | 'close-old'
  | 'close-neither'

const closes = { 'close-new': 'new', 'close-old': 'old', 'close-neither': 'neither' } as const

/** acceptable is the doubtful answer that a person can accept. */
const acceptable = (r: Replacement) => r.unused?.find((u) => u.acceptable)

function send(r: Replacement, what: Wish, reason: string) {
  const params = { params: { path: { id: r.id } } }
  switch (what) {
    case 'accept':
      return take(
        api.POST('/api/v1/replacements/{id}/acceptance', {
          ...params,
          body: { sha256: acceptable(r)?.certificate.sha256 ?? '' },
        }),
      )
    case 'clear':
      return take(api.POST('/api/v1/replacements/{id}/clear', params))
    case 'approve':
      return take(
        api.POST('/api/v1/replacements/{id}/approve', {
          ...params,
          body: { ...(r.effect && { digest: r.effect.digest }) },
        }),
      )
    case 'go':
      return take(api.POST('/api/v1/replacements/{id}/go', { ...params, body: {} }))
    case 'go-anyway':
      return take(api.POST('/api/v1/replacements/{id}/go', { ...params, body: { reason } }))
    case 'pause':
      return take(api.POST('/api/v1/replacements/{id}/pause', params))
    case 'cancel':
      return take(api.POST('/api/v1/replacements/{id}/cancel', params))
    case 'revert':
      return take(api.POST('/api/v1/replacements/{id}/revert', params))
    case 'retry':
      return take(api.POST('/api/v1/replacements/{id}/retry', params))
    case 'resume':
      return take(api.POST('/api/v1/replacements/{id}/resume', { ...params, body: {} }))
    case 'close-new':
    case 'close-old':
    case 'close-neither':
      return take(api.POST('/api/v1/replacements/{id}/close', { ...params, body: { as: closes[what], reason } }))
    default:
      return take(api.POST('/api/v1/replacements/{id}/resume', { ...params, body: { step: what } }))
  }
}

/** Wishes are what a person can ask of a replacement as it stands. What cannot be taken back is asked about first. */
export function Wishes({ r }: { r: Replacement }) {
  const [again, setAgain] = useState(false)
  const [sure, setSure] = useState<Wish>()
  const me = useQuery(sessionQuery).data?.user
  const operator = useMay('operator')
  const approver = useMay('approver')
  const [reason, setReason] = useState('')
  const go = useNavigate()
  const ask = useChange({
    of: 'replacements',
    do: (what: Wish) => send(r, what, reason),
    done: (after: Replacement) => {
      setSure(undefined)
      if (after.id !== r.id) void go(`/replacements/${after.id}`)
    },
  })
  const leave = () => {
    ask.reset()
    setSure(undefined)
  }
  const can = new Set((r.actions ?? []).map((a) => a.do))
  const unknown = can.has('resume-again') ? r.steps?.findLast((s) => s.outcome === 'unknown') : undefined
  const changed = touched.includes(r.stage)
  const open = r.state === 'waiting' || r.state === 'held' || (r.state === 'running' && !r.stopping && !r.reverting)
  if (!operator && !(approver && r.waiting_for === 'approval'))
    return open || r.state === 'sealed' ? <Quiet>Acting on it needs the role operator.</Quiet> : null
  const wish = (what: Wish, label: string, look: 'contained' | 'outlined' = 'contained', grave = false) => (
    <Button
      key={what}
      variant={look}
      color={grave ? 'error' : 'primary'}
      disabled={ask.isPending}
      onClick={() => (needsAnswer[what] ? setSure(what) : ask.mutate(what))}
    >
      {label}
    </Button>
  )
  const mine = r.waiting_for === 'approval' && r.asked_by === me
  return (
    <Box>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1 }}>
        {r.waiting_for === 'approval' && wish('approve', 'Approve')}
        {operator && (
          <>
            {can.has('accept-answer') && wish('accept', 'Accept the answer')}
            {r.waiting_for === 'go-ahead' && wish('go', 'Go on')}
            {r.waiting_for === 'window' && wish('go-anyway', 'Change the device now', 'outlined')}
            {open && r.state !== 'held' && !r.paused_by && !changed && wish('pause', 'Pause', 'outlined')}
            {r.paused_by &&
              r.state !== 'held' &&
              open &&
              r.waiting_for !== 'go-ahead' &&
              wish('go', 'End the pause', 'outlined')}
            {r.state === 'held' && !unknown && wish('resume', 'Resume')}
            {r.state === 'held' && unknown && wish('done', 'The step was done: go on')}
            {r.state === 'held' && unknown && wish('not-done', 'It was not done: do it now', 'outlined')}
            {r.state === 'held' && unknown && wish('repeat', 'Do the step again', 'outlined')}
            {can.has('close-new') && wish('close-new', 'Close: the new certificate stays', 'outlined')}
            {can.has('close-old') && wish('close-old', 'Close: the old certificate stays', 'outlined')}
            {can.has('close-neither') && wish('close-neither', 'Close: accept what is served', 'outlined')}
            {can.has('retry') && wish('retry', 'Retry with the signed certificate')}
            {r.leftover && wish('clear', 'Clear what is left')}
            {canAskAgain(r) && (
              <Button variant="outlined" onClick={() => setAgain(true)}>
                Ask again
              </Button>
            )}
            {open && !(r.state === 'held' && changed) && wish('cancel', 'Cancel', 'outlined', true)}
            {(r.state === 'sealed' || (r.state === 'held' && changed)) && wish('revert', 'Revert', 'outlined', true)}
          </>
        )}
      </Box>
      {mine && (
        <Quiet>You requested it: if the policy requires another person’s approval, you cannot approve it.</Quiet>
      )}
      {r.state === 'held' && unknown && (
        <Typography sx={{ mt: 1 }}>
          Nobody knows whether the step “{unknown.name}” was done. Look at the device first.
        </Typography>
      )}
      {r.leftover && <Typography sx={{ mt: 1, color: 'warning.main' }}>Left on the device: {r.leftover}</Typography>}
      {ask.error && !sure && <Problem error={ask.error} />}
      {again && <AskAgain r={r} close={() => setAgain(false)} />}
      {sure && (
        <Question
          r={r}
          wish={sure}
          step={unknown?.name ?? ''}
          pending={ask.isPending}
          error={ask.error}
          act={() => ask.mutate(sure)}
          close={leave}
          reason={reason}
          setReason={setReason}
        />
      )}
    </Box>
  )
}

const needsAnswer: Partial<Record<Wish, true>> = {
  accept: true,
  'go-anyway': true,
  approve: true,
  cancel: true,
  revert: true,
  done: true,
  'not-done': true,
  repeat: true,
  'close-new': true,
  'close-old': true,
  'close-neither': true,
}

const outcomes: Partial<Record<Wish, { ask: string; yes: string; say: string }>> = {
  done: {
    ask: 'was done?',
    yes: 'It was done',
    say: 'The replacement goes on after it. Say so only when you looked at the device.',
  },
  'not-done': {
    ask: 'was not done?',
    yes: 'It was not done',
    say: 'It is sent to the device now. Say so only when you looked at the device.',
  },
  repeat: {
    ask: 'is done again?',
    yes: 'Do it again',
    say: 'It is sent to the device once more. Where it was done already, it is then done twice.',
  },
}

const closing: Partial<Record<Wish, string>> = {
  'close-new': 'Every address serves the new certificate. The slot counts as replaced.',
  'close-old': 'Every address serves the old certificate. The slot counts as it was before.',
  'close-neither': 'The slot counts as serving whatever it serves now.',
}

/** EffectFacts says what a replacement is about to do: names, trust, pins and steps. */
function EffectFacts({ effect }: { effect: NonNullable<Replacement['effect']> }) {
  return (
    <Facts
      rows={[
        ...(effect.names_added.length > 0
          ? [['Names added', <Foreign>{effect.names_added.join(', ')}</Foreign>] as Fact]
          : []),
        ...(effect.names_lost.length > 0
          ? [['Names lost', <Foreign>{effect.names_lost.join(', ')}</Foreign>] as Fact]
          : []),
        ...effect.trust.map((t): Fact => [
          `Trust group ${t.trust_group}`,
          t.trusted ? 'trusts it' : <Foreign>{`does not trust it: missing root: ${t.lacks ?? ''}`}</Foreign>,
        ]),
        ...effect.pins.map((p): Fact => ['Pin', <Foreign>{p.who}</Foreign>]),
        ['Steps on the device', <Foreign>{effect.stages.join('; ')}</Foreign>],
      ]}
    />
  )
}

type QuestionProps = {
  r: Replacement
  wish: Wish
  step: string
  pending: boolean
  error: unknown
  act: () => void
  close: () => void
  reason: string
  setReason: (text: string) => void
}

/** commands do the same as the wishes that are asked about. */
function commandOf(r: Replacement, wish: Wish, reason: string) {
  const of = (verb: string, ...more: string[]) => command('replacement', verb, r.id, ...more)
  switch (wish) {
    case 'go-anyway':
      return of('go', ...option('reason', reason))
    case 'done':
    case 'not-done':
    case 'repeat':
      return of('resume', '--step', wish)
    case 'close-new':
    case 'close-old':
    case 'close-neither':
      return of('close', '--as', closes[wish], ...option('reason', reason))
    default:
      return of(wish)
  }
}

function Question({ r, wish, step, reason, setReason, ...asked }: QuestionProps) {
  const rest = { ...asked, command: commandOf(r, wish, reason) }
  const place = `${r.device}/${r.slot}`
  const old = { title: 'Old', sha256: r.old_sha256 }
  const fresh = { title: 'New', sha256: r.new_sha256, none: 'not signed yet' }
  switch (wish) {
    case 'accept': {
      const answer = acceptable(r)
      return (
        <Confirm {...rest} wide question={`Accept this answer for ${place}?`} yes="Accept it" no="Not yet">
          <Compare left={old} right={{ title: 'Answer', sha256: answer?.certificate.sha256 ?? '', none: 'none' }} />
          <Findings found={answer?.findings ?? []} />
        </Confirm>
      )
    }
    case 'approve':
      return (
        <Confirm {...rest} wide mild question={`Approve the new certificate of ${place}?`} yes="Approve" no="Not yet">
          <Compare left={old} right={fresh} />
          {r.effect && <EffectFacts effect={r.effect} />}
          <Typography sx={{ mt: 1 }}>It is put on the device at once, or in the next window.</Typography>
        </Confirm>
      )
    case 'revert':
      return (
        <Confirm {...rest} wide question={`Put the old certificate of ${place} back?`} yes="Revert">
          <Compare left={{ ...fresh, title: 'Served now' }} right={{ ...old, title: 'Served after' }} />
          <Typography sx={{ mt: 1 }}>
            Every change on the device is undone, services are reloaded, and the wire is read until the old certificate
            is seen.
          </Typography>
        </Confirm>
      )
    case 'cancel':
      return (
        <Confirm {...rest} question={`Cancel the replacement of ${place}?`} yes="Cancel it">
          <Typography>
            {touched.includes(r.stage)
              ? 'What was changed on the device is undone, and the old certificate is proven on the wire.'
              : 'Nothing was changed on the device yet. Its request becomes obsolete: an answer that still comes is not installed.'}
          </Typography>
        </Confirm>
      )
    case 'go-anyway':
      return (
        <Confirm {...rest} question={`Change ${r.device} outside its windows?`} yes="Change it now" no="Wait">
          <Typography sx={{ mb: 2 }}>{r.closed}</Typography>
          <TextField
            label="Reason"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
            required
            fullWidth
            helperText="Recorded in the audit log."
          />
        </Confirm>
      )
    case 'close-new':
    case 'close-old':
    case 'close-neither':
      return (
        <Confirm {...rest} question={`Close the replacement of ${place}?`} yes="Close it" no="Keep it open">
          <Typography sx={{ mb: 2 }}>
            {closing[wish]} The device is free from then on, and what the replacement left there is cleared.
          </Typography>
          <TextField
            label="Reason"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
            required
            fullWidth
            helperText="Recorded in the audit log."
          />
        </Confirm>
      )
    default: {
      const said = outcomes[wish]
      return (
        <Confirm {...rest} question={`The step “${step}” ${said?.ask ?? ''}`} yes={said?.yes ?? ''}>
          <Typography>{said?.say}</Typography>
        </Confirm>
      )
    }
  }
}
