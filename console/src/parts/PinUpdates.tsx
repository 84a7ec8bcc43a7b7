import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import { Link as RouterLink } from 'react-router'
import * as v from 'valibot'
import { api, take, type Schemas } from '../api/client'
import { Field } from './form/Field'
import { FormDialog } from './form/FormDialog'
import { May } from './May'
import { Facts, Quiet } from './Panel'
import { pinned } from './pins'
import { Print } from './Print'
import { slotPath } from './words'
import { When } from './When'
import { Name } from './Name'
import { command, option } from './command'

type PinUpdate = Schemas['PinUpdate']

const schema = v.object({
  note: v.pipe(v.string(), v.trim(), v.maxLength(2000, 'The note has at most 2000 characters.')),
})

/** PinUpdates lists the pins of changed certificates, pending and confirmed. */
export function PinUpdates({ all }: { all: PinUpdate[] }) {
  const [confirming, setConfirming] = useState<PinUpdate | null>(null)
  return (
    <Box component="ul" aria-label="Pins pending" sx={{ listStyle: 'none', m: 0, p: 0, display: 'grid', gap: 2 }}>
      {all.map((t) => (
        <Box component="li" key={t.id}>
          <Box
            sx={{ display: 'flex', gap: 1, alignItems: 'baseline', flexWrap: 'wrap', justifyContent: 'space-between' }}
          >
            <Typography sx={{ fontWeight: 600, overflowWrap: 'anywhere' }}>
              <bdi>{t.who}</bdi>
            </Typography>
            {t.confirmed_at ? (
              <Quiet>
                confirmed by <bdi>{t.confirmed_by}</bdi>, <When at={t.confirmed_at} />
              </Quiet>
            ) : (
              <May role="operator">
                <Button
                  size="small"
                  variant="outlined"
                  aria-label={`Confirm ${t.who}`}
                  onClick={() => setConfirming(t)}
                >
                  Confirm
                </Button>
              </May>
            )}
          </Box>
          <Facts
            rows={[
              [
                'Slot',
                <Link component={RouterLink} to={slotPath(t.device, t.slot)}>
                  <Name of={`${t.device}/${t.slot}`} />
                </Link>,
              ],
              ['How', <bdi>{t.how}</bdi>],
              ['Recorded', pinned[t.what]],
              ['Old', <Value of={t.old} what="what they recorded" />],
              ['New', <Value of={t.new} what="what they need now" />],
              ...(t.note ? [['Note', <bdi>{t.note}</bdi>] as [string, React.ReactNode]] : []),
            ]}
          />
        </Box>
      ))}
      {confirming && (
        <FormDialog
          title={`Confirm that ${confirming.who} has the new one`}
          schema={schema}
          start={{ note: '' }}
          always
          submit="Confirm"
          said="Confirmed"
          of="pinUpdates"
          send={(x) =>
            take(
              api.POST('/api/v1/pin-updates/{id}/confirm', {
                params: { path: { id: confirming.id } },
                body: { ...(x.note && { note: x.note }) },
              }),
            )
          }
          command={(x) => command('pin', 'confirm', confirming.id, ...option('note', x.note))}
          close={() => setConfirming(null)}
        >
          <Field name="note" label="How, and who answered" help="may be left empty" multiline autoFocus />
        </FormDialog>
      )}
    </Box>
  )
}

function Value({ of, what }: { of: string; what: string }) {
  return of ? <Print text={of} what={what} /> : <>not known</>
}
