import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import { Link as RouterLink } from 'react-router'
import * as v from 'valibot'
import { api, take, type Schemas } from '../../api/client'
import { Field } from '../../parts/form/Field'
import { FormDialog } from '../../parts/form/FormDialog'
import { May } from '../../parts/May'
import { FieldGrid, Quiet } from '../../parts/Panel'
import { day, some } from '../../parts/words'
import { When } from '../../parts/When'
import { command, option } from '../../parts/command'

const states: Record<Schemas['Parcel']['state'], string> = {
  packed: 'packed, not handed over yet',
  'handed-over': 'handed over',
  'partly-back': 'partly back',
  complete: 'complete',
}

/** ParcelRow tells where a parcel is in its life, and takes down to whom it was handed. */
export function ParcelRow({ p, signer }: { p: Schemas['Parcel']; signer: Schemas['Signer'] | undefined }) {
  const [open, setOpen] = useState(false)
  return (
    <Box>
      <Box
        sx={{
          display: 'flex',
          justifyContent: 'space-between',
          columnGap: 2,
          flexWrap: 'wrap',
          alignItems: 'baseline',
        }}
      >
        <span>
          <Link component={RouterLink} to={`/replacements?parcel=${p.id}`}>
            {p.id}, {some(p.requests, 'request')} for {p.signer}
          </Link>{' '}
          <Link href={`/api/v1/parcels/${p.id}/archive`} aria-label={`Download ${p.id}`}>
            Download
          </Link>
        </span>
        <Box
          component="span"
          sx={{
            color: p.late ? 'error.main' : p.open ? 'text.primary' : 'text.secondary',
            fontWeight: p.late ? 600 : 400,
          }}
        >
          {states[p.state]}
          {p.open > 0 && `, ${p.open} not back yet`}
          {p.late && ', late'}
        </Box>
        <Quiet>
          <When at={p.packed_at} />
        </Quiet>
      </Box>
      {p.handed_at && (
        <Quiet>
          with <bdi>{p.handed_to}</bdi> since {day(p.handed_at)}
          {p.reference && `, number ${p.reference}`}
          {p.back_by && p.open > 0 && `; expected back by ${day(p.back_by)}`}
          {p.obsolete > 0 && `; ${p.obsolete} requested again since`}
        </Quiet>
      )}
      {p.reminder && <Typography sx={{ color: 'error.main', fontWeight: 600 }}>{p.reminder}</Typography>}
      {signer?.notes && p.open > 0 && (
        <Typography variant="body2" sx={{ whiteSpace: 'pre-line' }}>
          <strong>{signer.name}:</strong> <bdi>{signer.notes}</bdi>
        </Typography>
      )}
      {p.state === 'packed' && (
        <May role="operator">
          <Button size="small" onClick={() => setOpen(true)}>
            Handed over
          </Button>
        </May>
      )}
      {open && (
        <FormDialog
          title={`Hand ${p.id} over`}
          schema={v.object({
            to: v.pipe(v.string(), v.trim(), v.nonEmpty('Recipient is needed.')),
            reference: v.string(),
          })}
          start={{ to: '', reference: '' }}
          submit="Record"
          of="parcels"
          send={(x) => take(api.POST('/api/v1/parcels/{id}/handover', { params: { path: { id: p.id } }, body: x }))}
          command={(x) =>
            command('parcel', 'hand', p.id, '--to', x.to.trim() || 'WHOM', ...option('reference', x.reference))
          }
          close={() => setOpen(false)}
        >
          <FieldGrid>
            <Field name="to" label="Recipient" autoFocus />
            <Field name="reference" label="Reference number" />
          </FieldGrid>
        </FormDialog>
      )}
    </Box>
  )
}
