import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import { Link as RouterLink } from 'react-router'
import type { Schemas } from '../api/client'
import { Chain } from './Chain'
import { Findings } from './Findings'
import { Foreign } from './Foreign'
import { Next } from './Next'
import { Name } from './Name'

type Answer = Schemas['Answer']
type Item = Schemas['Item']

// So many files are shown one by one; a pile may have thousands.
const most = 200

/** Account tells of each file what it held, with an arrow to the request that it answers. */
export function Account({ intake }: { intake: Schemas['Intake'] }) {
  const answers = new Map(intake.answers.map((a) => [a.sha256, a]))
  const held = new Set(intake.files.flatMap((f) => f.holds.map((h) => h.sha256)))
  const earlier = intake.answers.filter((a) => !held.has(a.sha256))
  const accepted = intake.answers.filter((a) => a.accepted).length
  return (
    <Box role="group" aria-label="Account of the files" sx={{ mt: 2, display: 'grid', gap: 1.5 }}>
      <Typography>
        <strong>
          {intake.files.length} {intake.files.length === 1 ? 'file' : 'files'}
        </strong>
        {': '}
        {intake.answers.length === 0
          ? 'no leaf is among them, so no request is answered; intermediates are kept for when it comes'
          : `${accepted} of ${intake.answers.length} leaves accepted`}
      </Typography>
      <Box>
        {intake.files.slice(0, most).map((f, n) => (
          <Box
            key={n}
            data-file={f.name}
            sx={{
              display: 'grid',
              gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: 'minmax(0, 1fr) minmax(0, 3fr)' },
              columnGap: 2,
              py: 0.75,
              borderBottom: 1,
              borderColor: 'divider',
            }}
          >
            <Box sx={{ fontWeight: 600, overflowWrap: 'anywhere' }}>
              <Foreign>{f.name}</Foreign>
            </Box>
            <Box sx={{ display: 'grid', gap: 0.5, minWidth: 0 }}>
              {f.holds.map((h, i) => (
                <Held key={i} item={h} answer={answers.get(h.sha256 ?? '')} />
              ))}
            </Box>
          </Box>
        ))}
        {intake.files.length > most && (
          <Typography sx={{ pt: 1 }}>and {intake.files.length - most} files more</Typography>
        )}
      </Box>
      {earlier.length > 0 && (
        <Box>
          <Typography sx={{ fontWeight: 600 }}>Certificates received earlier</Typography>
          {earlier.map((a) => (
            <Box key={a.sha256} sx={{ py: 0.5 }}>
              <Answered answer={a} />
            </Box>
          ))}
        </Box>
      )}
    </Box>
  )
}

const kinds: Record<Item['kind'], string> = {
  certificate: 'certificate',
  request: 'request',
  key: 'private key',
  'revocation-list': 'revocation list',
  junk: 'cannot be used',
}

function Held({ item, answer }: { item: Item; answer?: Answer }) {
  if (answer) return <Answered answer={answer} note={item.note} />
  const loud = item.kind === 'junk' || item.kind === 'key'
  return (
    <Typography variant="body2" sx={{ color: loud ? 'error.main' : 'text.secondary', overflowWrap: 'anywhere' }}>
      {kinds[item.kind]}
      <Foreign>{[item.subject && ` ${item.subject}`, item.note && `: ${item.note}`].filter(Boolean).join('')}</Foreign>
    </Typography>
  )
}

/** Answered is a leaf with the arrow to the request it answers, and its chain with the hole marked. */
function Answered({ answer: a, note }: { answer: Answer; note?: string }) {
  const [open, setOpen] = useState(!a.accepted && a.chain.length > 0)
  const others = a.findings.filter((f) => f.what !== a.why) // which is told already
  const untrusting = a.trust.filter((t) => !t.trusted && t.trust_group !== 'fleet')
  return (
    <Box
      data-accepted={a.accepted}
      sx={{ borderLeft: 3, borderColor: a.accepted ? 'success.main' : 'error.main', pl: 1.5, minWidth: 0 }}
    >
      <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 1, alignItems: 'baseline' }}>
        <Box component="span" sx={{ fontWeight: 600, overflowWrap: 'anywhere' }}>
          <Foreign>{a.leaf}</Foreign>
        </Box>
        {a.replacement && (
          <Box component="span" sx={{ overflowWrap: 'anywhere' }}>
            →{' '}
            <Link component={RouterLink} to={`/replacements/${a.replacement}`}>
              {a.replacement} <Name of={`${a.device}/${a.slot}`} />
            </Link>
          </Box>
        )}
        <Box
          component="span"
          sx={{ color: a.accepted ? 'success.main' : a.doubtful ? 'warning.main' : 'error.main', fontWeight: 600 }}
        >
          {a.accepted
            ? '✓ accepted; the replacement continues'
            : a.doubtful
              ? '? doubtful: waits to be accepted'
              : a.unmatched
                ? '✕ matches no pending request; kept as unmatched'
                : '✕ not accepted'}
        </Box>
        {a.chain.length > 0 && (
          <Button size="small" sx={{ py: 0 }} aria-expanded={open} onClick={() => setOpen(!open)}>
            {open ? 'Hide the chain' : 'Show the chain'}
          </Button>
        )}
      </Box>
      {note && (
        <Typography variant="body2">
          <Foreign>{note}</Foreign>
        </Typography>
      )}
      {!a.accepted && (
        <Typography variant="body2" sx={{ overflowWrap: 'anywhere' }}>
          <Foreign>{a.why}</Foreign>
        </Typography>
      )}
      {!a.accepted && <Next say={a.next} actions={a.actions} />}
      {untrusting.map((t) => (
        <Typography key={t.trust_group} variant="body2" sx={{ color: 'warning.main' }}>
          Not trusted by "{t.trust_group}": root "{t.lacks}" is missing
        </Typography>
      ))}
      {open && (
        <Box sx={{ pt: 1 }}>
          <Chain
            links={a.chain.map((l) => ({ ...l, served: true }))}
            incomplete={a.findings.find((f) => f.code === 'chain-incomplete')?.what}
          />
        </Box>
      )}
      {others.length > 0 && <Findings found={others} />}
    </Box>
  )
}
