import Box from '@mui/material/Box'
import LinearProgress from '@mui/material/LinearProgress'
import Typography from '@mui/material/Typography'
import { useState, type ReactNode } from 'react'
import type { Replacement, Schemas } from '../../api/client'
import { mono } from '../../app/theme'
import { visible } from '../../parts/Foreign'
import { wanted } from '../../parts/State'
import { When } from '../../parts/When'
import { some, spent, took } from '../../parts/words'

type Step = Schemas['Step']
type Spent = Schemas['Spent']
type Mark = 'done' | 'now' | 'failed' | 'ahead' | 'unneeded'

const stages: [string, string][] = [
  ['survey', 'inspect the current state'],
  ['request', 'the device makes key and request'],
  ['sign', 'the request goes to the signer'],
  ['gate', 'approval and window'],
  ['backup', 'back up what will be changed'],
  ['trust', 'give the device the anchors it needs'],
  ['install', 'put the new files on the device; nothing live changes yet'],
  ['trial', 'prove on a test address'],
  ['activate', 'put them in place and restart'],
  ['prove', 'read until the full chain is served'],
  ['mirror', 'synchronise the other members'],
  ['seal', 'record it and clear the work folder'],
]

/** Stages shows the way of a replacement, stage by stage, with every step and what came of it. */
export function Stages({ r }: { r: Replacement }) {
  const now = stages.findIndex(([name]) => name === r.stage)
  // Before another request is made, what the one before left is cleared away: that is part of asking again.
  const again = Boolean(r.former?.length) && r.state !== 'cancelled' && !r.stopping
  const back = (r.steps ?? []).filter((s) => s.stage === 'revert' || (s.stage === 'cancel' && !again))
  const of = (stage: string) =>
    (r.steps ?? []).filter(
      (s) =>
        s.stage === stage ||
        (again && stage === 'request' && s.stage === 'cancel') ||
        (stage === 'seal' && s.stage === 'finally'),
    )
  const times = r.stage_times ?? []
  return (
    <Box component="ol" aria-label="Stages" sx={{ listStyle: 'none', m: 0, p: 0 }}>
      {stages.map(([name, about], i) => (
        <Stage
          key={name}
          name={name}
          about={about}
          mark={mark(r, i, now, of(name).length)}
          steps={of(name)}
          spent={times.find((t) => t.stage === name)}
        />
      ))}
      {back.length > 0 && (
        <Stage
          name={r.state === 'cancelled' ? 'cancel' : 'revert'}
          about="the way back"
          mark={r.state === 'held' ? 'failed' : r.state === 'running' ? 'now' : 'done'}
          steps={back}
          spent={times.find((t) => t.stage === 'revert')}
        />
      )}
    </Box>
  )
}

// Stages that consist of the family's own steps alone.
const own = ['gate', 'backup', 'trust', 'install', 'trial', 'activate', 'mirror']

function mark(r: Replacement, i: number, now: number, steps: number): Mark {
  if (r.signer === 'device' && ['request', 'sign'].includes(stages[i]?.[0] ?? '')) return 'unneeded'
  if (r.state === 'sealed' || i < now) return steps === 0 && own.includes(stages[i]?.[0] ?? '') ? 'unneeded' : 'done'
  if (i > now) return 'ahead'
  if (wanted(r)) return 'done' // what a person asked for did not fail
  return r.state === 'held' || r.state === 'reverted' || r.reverting
    ? 'failed'
    : r.state === 'cancelled'
      ? 'ahead'
      : 'now'
}

const signs: Record<Mark, string> = { done: '✓', now: '▸', failed: '✕', ahead: '·', unneeded: '–' }
const tones: Record<Mark, string> = {
  done: 'success.main',
  now: 'primary.main',
  failed: 'error.main',
  ahead: 'text.secondary',
  unneeded: 'text.secondary',
}

function Stage({
  name,
  about,
  mark,
  steps,
  spent: time,
}: {
  name: string
  about: string
  mark: Mark
  steps: Step[]
  spent: Spent | undefined
}) {
  const [chosen, setChosen] = useState<boolean | null>(null) // null: open while it matters
  const open = chosen ?? (mark === 'now' || mark === 'failed')
  return (
    <Box
      component="li"
      data-stage={name}
      data-mark={mark}
      sx={{
        display: 'flex',
        gap: 1.5,
        py: 0.5,
        color: mark === 'ahead' || mark === 'unneeded' ? 'text.secondary' : 'text.primary',
      }}
    >
      <Box
        aria-hidden="true"
        sx={{ width: 18, flexShrink: 0, textAlign: 'center', fontWeight: 700, color: tones[mark] }}
      >
        {signs[mark]}
      </Box>
      <Box sx={{ minWidth: 0, flexGrow: 1 }}>
        <Box sx={{ display: 'flex', gap: 1, alignItems: 'baseline' }}>
          <Typography component="div" sx={{ flexGrow: 1 }}>
            <strong>{name}</strong>{' '}
            <Box component="span" sx={{ color: 'text.secondary' }}>
              {mark === 'unneeded' ? 'not needed' : about}
            </Box>
          </Typography>
          {time && mark !== 'unneeded' && (
            <Typography component="span" data-spent variant="body2" sx={{ color: 'text.secondary' }}>
              {time.ended_at ? spent(time.ran_seconds, time.waited_seconds) : <Since at={time.began_at} />}
            </Typography>
          )}
          {steps.length > 0 && (
            <Line open={open} toggle={() => setChosen(!open)}>
              {some(steps.length, 'step')} <span aria-hidden="true">{open ? '▴' : '▾'}</span>
              <Hidden>of {name}</Hidden>
            </Line>
          )}
        </Box>
        {open && steps.map((s, i) => <StepLine key={i} step={s} />)}
      </Box>
    </Box>
  )
}

function Since({ at }: { at: string }) {
  return (
    <>
      since <When at={at} />
    </>
  )
}

/** Hidden is read out and not shown. */
function Hidden({ children }: { children: ReactNode }) {
  return (
    <span
      style={{
        position: 'absolute',
        width: 1,
        height: 1,
        overflow: 'hidden',
        clipPath: 'inset(50%)',
        whiteSpace: 'pre',
      }}
    >
      {children}
    </span>
  )
}

/** Line is a line of text that opens and closes something. */
function Line({
  open,
  toggle,
  tone = 'text.secondary',
  wide,
  children,
}: {
  open: boolean
  toggle: () => void
  tone?: string
  wide?: boolean
  children: ReactNode
}) {
  return (
    <Box
      component="button"
      type="button"
      aria-expanded={open}
      onClick={toggle}
      sx={{
        all: 'unset',
        cursor: 'pointer',
        display: 'flex',
        gap: 1,
        width: wide ? '100%' : 'auto',
        whiteSpace: wide ? 'normal' : 'nowrap',
        fontSize: 13,
        color: tone,
        '&:focus-visible': { outline: '2px solid', outlineColor: 'primary.main' },
        '&:hover': { textDecoration: 'underline' },
      }}
    >
      {children}
    </Box>
  )
}

function StepLine({ step }: { step: Step }) {
  const [open, setOpen] = useState(step.outcome === 'failed' || step.outcome === 'unknown')
  const live = step.outcome === 'running' && step.verb === 'dialog' && step.output
  return (
    <Box>
      <Line
        open={open}
        toggle={() => setOpen(!open)}
        tone={step.outcome === 'failed' || step.outcome === 'unknown' ? 'error.main' : 'text.primary'}
        wide
      >
        <Box component="span" sx={{ flexGrow: 1 }}>
          {step.name}
          {step.outcome !== 'done' && ` — ${step.outcome}`}
          {step.outcome === 'running' && step.percent ? `, ${step.percent} %` : ''}
          {step.outcome === 'running' && step.usual_seconds
            ? `, usually takes ${duration(step.usual_seconds)} here`
            : ''}
        </Box>
        <Box component="span" sx={{ color: 'text.secondary' }}>
          {took(step.began_at, step.ended_at)}
        </Box>
      </Line>
      {live && <Screen text={step.output ?? ''} percent={step.percent} />}
      {open && !live && (
        <Box
          component="pre"
          sx={{
            m: 0,
            mb: 1,
            p: 1,
            bgcolor: 'background.default',
            border: 1,
            borderColor: 'divider',
            borderRadius: 1,
            fontFamily: mono,
            fontSize: 11.5,
            whiteSpace: 'pre-wrap',
            overflowWrap: 'anywhere',
          }}
        >
          {visible([`${step.verb} ${step.text}`, step.output, step.why].filter(Boolean).join('\n\n'))}
        </Box>
      )}
    </Box>
  )
}

/** Screen shows the terminal of a dialog while it is held. */
function Screen({ text, percent }: { text: string; percent: number | undefined }) {
  return (
    <Box sx={{ my: 1 }}>
      {percent !== undefined && (
        <LinearProgress variant="determinate" value={percent} aria-label="Progress on the device" sx={{ mb: 0.5 }} />
      )}
      <Box
        component="pre"
        role="img"
        aria-label="Screen of the device"
        sx={{
          m: 0,
          p: 1,
          minHeight: 120,
          maxHeight: 430,
          overflow: 'auto',
          bgcolor: '#141c2e',
          color: '#e6e9f2',
          borderRadius: 1,
          fontFamily: mono,
          fontSize: 11.5,
          lineHeight: 1.3,
        }}
      >
        {visible(text)}
      </Box>
    </Box>
  )
}

const duration = (seconds: number) => (seconds < 90 ? `${seconds} s` : `${Math.round(seconds / 60)} min`)
