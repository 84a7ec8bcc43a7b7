import Box from '@mui/material/Box'
import Typography from '@mui/material/Typography'
import type { Schemas } from '../../api/client'
import { mono } from '../../app/theme'
import { Findings } from '../../parts/Findings'
import { visible } from '../../parts/Foreign'
import { pinned } from '../../parts/pins'

/** Rehearsal shows every step of a replacement in its final text, and the plan that it was made from. */
export function Rehearsal({ of: r }: { of: Schemas['Rehearsal'] }) {
  return (
    <Box
      role="region"
      aria-label="Rehearsal"
      tabIndex={0}
      sx={{ maxHeight: 340, overflow: 'auto', border: 1, borderColor: 'divider', borderRadius: 1, p: 1.5 }}
    >
      <Typography variant="body2">
        Nothing was sent. Slots:{' '}
        <strong>
          {r.targets
            .map((t) => `${t.slot} at ${t.addresses.map((a) => `${a.address}:${a.port}`).join(', ')}`)
            .join('; ')}
        </strong>
        .{' '}
        {r.plan.names.length === 0 ? (
          'The device chooses subject, names and key itself.'
        ) : (
          <>
            Names: <strong>{r.plan.names.join(', ')}</strong>
          </>
        )}
      </Typography>
      <Typography variant="body2" sx={{ mb: 1, color: 'text.secondary' }}>
        {Object.entries(r.plan.sources ?? {})
          .map(([what, source]) => `${what} from ${source}`)
          .join('; ')}
      </Typography>
      {Object.entries(r.plan.left_out ?? {}).map(([name, why]) => (
        <Typography key={name} variant="body2" sx={{ color: 'warning.main' }}>
          left out {name}: {why}
        </Typography>
      ))}
      {(r.plan.cautions ?? []).map((caution) => (
        <Typography key={caution} variant="body2" sx={{ color: 'warning.main' }}>
          <bdi>{caution}</bdi>
        </Typography>
      ))}
      {Object.entries(r.plan.dropped ?? {}).map(([field, value]) => (
        <Typography key={field} variant="body2" sx={{ color: 'warning.main' }}>
          no {field} <bdi>{value}</bdi>: the family has no place for it in its request
        </Typography>
      ))}
      {r.pins.map((pin) => (
        <Typography key={pin.id} variant="body2" sx={{ mb: 1 }}>
          Pin: <bdi>{pin.who}</bdi>, who recorded the {pinned[pin.what]} of {pin.slot}: it {pin.breaks}
        </Typography>
      ))}
      {r.findings.length > 0 && <Findings found={r.findings} />}
      {r.steps.map((step, i) => (
        <Box key={i} sx={{ mb: 1 }}>
          <Typography variant="body2">
            <Box component="span" sx={{ color: 'text.secondary' }}>
              {step.stage}
            </Box>{' '}
            {step.name}
          </Typography>
          <Box
            component="pre"
            sx={{
              m: 0,
              fontFamily: mono,
              fontSize: 11.5,
              whiteSpace: 'pre-wrap',
              overflowWrap: 'anywhere',
              color: 'text.secondary',
            }}
          >
            {visible(
              [
                `${step.verb} ${step.text}`,
                step.content,
                step.difference,
                step.undo && `undo: ${step.undo}`,
                step.finally && `always: ${step.finally}`,
                step.note,
                `limit: ${step.limit}`,
              ]
                .filter(Boolean)
                .join('\n'),
            )}
          </Box>
        </Box>
      ))}
    </Box>
  )
}
