import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { api, take, type Schemas } from '../../api/client'
import { queryClient } from '../../api/queries'
import { Problem } from '../../parts/Problem'
import { day, moment } from '../../parts/words'

const states: Record<Schemas['Parcel']['state'], string> = { packed: 'packed, not handed over yet', 'handed-over': 'handed over', 'partly-back': 'partly back', complete: 'complete' }

/** ParcelRow tells where a parcel is in its life, and takes down to whom it was handed. */
export function ParcelRow({ p, signer }: { p: Schemas['Parcel']; signer?: Schemas['Signer'] }) {
  const [open, setOpen] = useState(false)
  const [to, setTo] = useState('')
  const [reference, setReference] = useState('')
  const hand = useMutation({
    mutationFn: () => take(api.POST('/api/v1/parcels/{id}/handover', { params: { path: { id: p.id } }, body: { to, reference } })),
    onSuccess: () => {
      setOpen(false)
      return queryClient.invalidateQueries()
    },
  })
  return (
    <Box sx={{ py: 0.5, borderBottom: 1, borderColor: 'divider', '&:last-child': { border: 0 } }}>
      <Box sx={{ display: 'flex', justifyContent: 'space-between', columnGap: 2, flexWrap: 'wrap', alignItems: 'baseline' }}>
        <Link href={`/api/v1/parcels/${p.id}/archive`}>
          {p.id}, {p.requests} {p.requests === 1 ? 'request' : 'requests'} for {p.signer}
        </Link>
        <Box component="span" sx={{ color: p.late ? 'error.main' : p.open ? 'text.primary' : 'text.secondary', fontWeight: p.late ? 600 : 400 }}>
          {states[p.state]}
          {p.open > 0 && `, ${p.open} not back yet`}
          {p.late && ', late'}
        </Box>
        <Box component="span" sx={{ color: 'text.secondary' }}>
          {moment(p.packed_at)}
        </Box>
      </Box>
      {p.handed_at && (
        <Typography variant="body2" sx={{ color: 'text.secondary' }}>
          with {p.handed_to} since {day(p.handed_at)}
          {p.reference && `, number ${p.reference}`}
          {p.back_by && p.open > 0 && `; expected back by ${day(p.back_by)}`}
          {p.obsolete > 0 && `; ${p.obsolete} asked for anew since`}
        </Typography>
      )}
      {p.reminder && <Typography sx={{ color: 'error.main', fontWeight: 600 }}>{p.reminder}</Typography>}
      {signer?.notes && p.open > 0 && (
        <Typography variant="body2" sx={{ whiteSpace: 'pre-line' }}>
          <strong>{signer.name}:</strong> {signer.notes}
        </Typography>
      )}
      {p.state === 'packed' && !open && (
        <Button size="small" onClick={() => setOpen(true)}>
          Handed over
        </Button>
      )}
      {open && (
        <Box component="form" aria-label={`Hand ${p.id} over`} onSubmit={(e) => { e.preventDefault(); hand.mutate() }} sx={{ display: 'flex', gap: 1, flexWrap: 'wrap', pt: 1 }}>
          <TextField size="small" label="To whom" value={to} onChange={(e) => setTo(e.target.value)} autoFocus />
          <TextField size="small" label="Their number for it" value={reference} onChange={(e) => setReference(e.target.value)} />
          <Button type="submit" variant="contained" disabled={!to.trim() || hand.isPending}>
            Record
          </Button>
        </Box>
      )}
      {hand.error && <Problem error={hand.error} />}
    </Box>
  )
}
