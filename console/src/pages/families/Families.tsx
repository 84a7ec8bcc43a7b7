import Accordion from '@mui/material/Accordion'
import AccordionDetails from '@mui/material/AccordionDetails'
import AccordionSummary from '@mui/material/AccordionSummary'
import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { Fragment } from 'react'
import { Link as RouterLink, useLocation } from 'react-router'
import type { Schemas } from '../../api/client'
import { familiesQuery } from '../../api/queries'
import { mono } from '../../app/theme'
import { Heading } from '../../parts/Heading'
import { Facts, Stack } from '../../parts/Panel'
import { Term } from '../../parts/Term'
import { some } from '../../parts/words'
import { Problem } from '../../parts/Problem'

const ways: Record<string, string> = {
  ssh: 'over SSH',
  https: 'over its web interface',
  netconf: 'by NETCONF',
  person: 'by a person',
  service: 'by Fresh Seal itself',
}

/** Told is a step of a family's procedure, as the API tells it. */
type Told = Schemas['Told']

const quiet = { color: 'text.secondary' }

/** What tells in words what a replacement does to a device of the family, stage by stage. */
function What({ of, steps }: { of: string; steps: Told[] }) {
  const stages = [...new Set(steps.map((s) => s.stage))]
  const several = new Set(steps.map((s) => s.link)).size > 1
  return (
    <Box
      component="dl"
      aria-label={`What a replacement does to a ${of}`}
      sx={{ m: 0, display: 'grid', gridTemplateColumns: { xs: '1fr', sm: '7rem 1fr' }, columnGap: 2, rowGap: 0.75 }}
    >
      {stages.map((stage) => (
        <Fragment key={stage}>
          <Typography component="dt" sx={{ color: 'text.secondary' }}>
            {stage === 'session' ? 'each time' : stage}
          </Typography>
          <Box component="dd" sx={{ m: 0 }}>
            {steps
              .filter((s) => s.stage === stage)
              .map((s) => (
                <Typography key={s.name}>
                  {s.name}
                  {several && s.link && (
                    <Box component="span" sx={quiet}>
                      , {ways[s.link] ?? s.link}
                    </Box>
                  )}
                  {s.when && (
                    <Box component="span" sx={quiet}>
                      {' '}
                      ({s.when})
                    </Box>
                  )}
                  {s.undo && (
                    <Box component="span" sx={quiet}>
                      {s.undo.startsWith('there is') ? `; ${s.undo}` : `; if something fails later: ${s.undo}`}
                    </Box>
                  )}
                  {s.finally && (
                    <Box component="span" sx={quiet}>
                      ; in the end, whatever happens: {s.finally}
                    </Box>
                  )}
                </Typography>
              ))}
          </Box>
        </Fragment>
      ))}
    </Box>
  )
}

/** Families shows the kinds of device and the procedure of each, in its own words. */
export function Families() {
  const all = useQuery(familiesQuery)
  const wanted = useLocation().hash.slice(1)
  if (all.error && !all.data) return <Problem error={all.error} again={() => void all.refetch()} />
  return (
    <Stack>
      <Heading title="Families" tab="Families" term={<Term of="family" />} />
      <Typography sx={{ color: 'text.secondary' }}>
        A family is a kind of device. Its procedure says how such a device makes its key and request, takes its chain
        and is restarted.
      </Typography>
      <Box>
        {(all.data ?? []).map((f) => (
          <Accordion
            key={f.name}
            id={f.name}
            slotProps={{ heading: { component: 'h2' } }}
            defaultExpanded={f.name === wanted}
          >
            <AccordionSummary aria-controls={`${f.name}-text`}>
              <Box sx={{ display: 'flex', gap: 2, flexWrap: 'wrap', width: '100%', alignItems: 'baseline' }}>
                <Typography sx={{ fontWeight: 600 }}>{f.title || f.name}</Typography>
                {!f.usable && <Typography sx={{ color: 'error.main', fontWeight: 600 }}>cannot be used</Typography>}
                <Typography sx={{ color: 'text.secondary' }}>
                  {f.links.map((l) => ways[l] ?? l).join(' and ')}
                </Typography>
                <Typography sx={{ color: 'text.secondary', ml: 'auto' }}>{some(f.devices, 'device')}</Typography>
              </Box>
            </AccordionSummary>
            <AccordionDetails id={`${f.name}-text`} sx={{ display: 'grid', gap: 2 }}>
              {f.faults.length > 0 && (
                <Box
                  component="ul"
                  aria-label={`Faults of ${f.name}`}
                  sx={{ m: 0, pl: 2.5, color: f.usable ? 'warning.main' : 'error.main' }}
                >
                  {f.faults.map((fault, i) => (
                    <li key={i}>
                      Line {fault.line}, column {fault.column}: {fault.what}
                      {fault.instead && <Box sx={{ color: 'text.secondary' }}>{fault.instead}</Box>}
                    </li>
                  ))}
                </Box>
              )}
              <Typography sx={{ whiteSpace: 'pre-line', maxWidth: 760 }}>{f.about}</Typography>
              <What of={f.title || f.name} steps={f.steps} />
              <Facts
                rows={[
                  ['Name', f.name],
                  ['Keys', f.signs_itself ? 'made and signed by the device itself' : f.keys.join(', ')],
                  [
                    'Devices',
                    <Link component={RouterLink} to={`/devices?family=${f.name}`}>
                      show them
                    </Link>,
                  ],
                  ...f.settings.map((s): [string, string] => [
                    s.name,
                    `${s.about} (${s.choices?.join(', ') ?? s.kind}${s.default ? `; default: ${s.default}` : ''})`,
                  ]),
                ]}
              />
              <Box
                component="pre"
                tabIndex={0}
                aria-label={`Procedure of ${f.name}`}
                sx={{
                  m: 0,
                  p: 1.5,
                  maxHeight: 420,
                  overflow: 'auto',
                  border: 1,
                  borderColor: 'divider',
                  borderRadius: 1,
                  fontFamily: mono,
                  fontSize: 12,
                  bgcolor: 'background.default',
                }}
              >
                {f.yaml}
              </Box>
            </AccordionDetails>
          </Accordion>
        ))}
      </Box>
    </Stack>
  )
}
