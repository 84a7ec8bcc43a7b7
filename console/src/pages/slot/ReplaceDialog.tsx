import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import Radio from '@mui/material/Radio'
import RadioGroup from '@mui/material/RadioGroup'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { api, ApiError, take, type Slot } from '../../api/client'
import { policiesQuery, signersQuery } from '../../api/queries'
import { mono } from '../../app/theme'
import { Findings } from '../../parts/Findings'
import { Problem } from '../../parts/Problem'

const keys = ['ecdsa-p256', 'ecdsa-p384', 'rsa-2048', 'rsa-3072', 'rsa-4096']

/** ReplaceDialog asks who is to sign, and shows every step before anything is sent. */
export function ReplaceDialog({ slot, close }: { slot: Slot; close: () => void }) {
  const signers = useQuery(signersQuery)
  const policies = useQuery(policiesQuery)
  const [chosen, setSigner] = useState<string>()
  const [key, setKey] = useState('')
  const [names, setNames] = useState('')
  const navigate = useNavigate()
  // The rules that are nearest to the device name the signer.
  const rules = ['device/' + slot.device, 'site/' + slot.site, 'fleet'].flatMap((scope) => policies.data?.find((p) => p.scope === scope)?.rules.signer || [])
  const signer = chosen ?? rules[0] ?? 'bench'
  const [unseen, setUnseen] = useState(false)
  const [oneWay, setOneWay] = useState(false)
  const order = { device: slot.device, slot: slot.name, signer, ...(key && { key }), names: names.split(/[\s,]+/).filter(Boolean), ...(unseen && { unseen }), ...(oneWay && { one_way: oneWay }) }
  const rehearse = useMutation({ mutationFn: () => take(api.POST('/api/v1/rehearsals', { body: order })) })
  const begin = useMutation({
    mutationFn: () => take(api.POST('/api/v1/replacements', { body: order })),
    onSuccess: (r) => void navigate(`/replacements/${r.id}`),
  })
  const noWayBack = (rehearse.data?.steps ?? []).some((s) => s.undo?.startsWith('no way back')) || (begin.error instanceof ApiError && Boolean(begin.error.detail?.includes('cannot be undone')))
  return (
    <Dialog open onClose={close} maxWidth="md" fullWidth aria-labelledby="replace-title">
      <DialogTitle id="replace-title">
        Replace {slot.device}/{slot.name}
      </DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 2 }}>
        <RadioGroup aria-label="Signer" value={signer} onChange={(e) => setSigner(e.target.value)}>
          {(signers.data ?? []).map((s) => (
            <FormControlLabel
              key={s.name}
              value={s.name}
              control={<Radio size="small" />}
              label={
                <Box>
                  <strong>{s.name}</strong>{' '}
                  <Typography sx={{ color: 'text.secondary' }} component="span">
                    {s.about}
                  </Typography>
                </Box>
              }
            />
          ))}
        </RadioGroup>
        <Box sx={{ display: 'flex', gap: 2, flexWrap: 'wrap' }}>
          <TextField select label="Key" size="small" value={key} onChange={(e) => setKey(e.target.value)} sx={{ width: 200 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
            <MenuItem value="">as the policy says</MenuItem>
            {keys.map((k) => (
              <MenuItem key={k} value={k}>
                {k}
              </MenuItem>
            ))}
          </TextField>
          <TextField label="More names, if any" size="small" value={names} onChange={(e) => setNames(e.target.value)} sx={{ flexGrow: 1, minWidth: 200 }} helperText="Names that are known already are taken by themselves." />
        </Box>
        {slot.condition === 'dark' && <FormControlLabel control={<Checkbox size="small" checked={unseen} onChange={(e) => setUnseen(e.target.checked)} />} label="Go on although the slot cannot be read: a way back can then not be proven" />}
        {noWayBack && <FormControlLabel control={<Checkbox size="small" checked={oneWay} onChange={(e) => setOneWay(e.target.checked)} />} label="Go on although some steps cannot be undone" />}
        {(rehearse.error ?? begin.error) && <Problem error={rehearse.error ?? begin.error} />}
        {rehearse.data && (
          <Box aria-label="Rehearsal" sx={{ maxHeight: 320, overflow: 'auto', border: 1, borderColor: 'divider', borderRadius: 1, p: 1.5 }}>
            <Typography variant="body2">
              Nothing was sent. Names: <strong>{rehearse.data.plan.names.join(', ')}</strong>
            </Typography>
            <Typography variant="body2" sx={{ mb: 1, color: 'text.secondary' }}>
              {Object.entries(rehearse.data.plan.sources ?? {}).map(([what, source]) => `${what} from ${source}`).join('; ')}
            </Typography>
            {Object.entries(rehearse.data.plan.left_out ?? {}).map(([name, why]) => (
              <Typography key={name} variant="body2" sx={{ color: 'warning.main' }}>
                left out {name}: {why}
              </Typography>
            ))}
            {rehearse.data.findings.length > 0 && <Findings found={rehearse.data.findings} />}
            {rehearse.data.steps.map((step, i) => (
              <Box key={i} sx={{ mb: 1 }}>
                <Typography variant="body2">
                  <Box component="span" sx={{ color: 'text.secondary' }}>
                    {step.stage}
                  </Box>{' '}
                  {step.name}
                </Typography>
                <Box component="pre" sx={{ m: 0, fontFamily: mono, fontSize: 11.5, whiteSpace: 'pre-wrap', overflowWrap: 'anywhere', color: 'text.secondary' }}>
                  {[`${step.verb} ${step.text}`, step.content, step.undo && `undo: ${step.undo}`, step.finally && `always: ${step.finally}`, `limit: ${step.limit}`].filter(Boolean).join('\n')}
                </Box>
              </Box>
            ))}
          </Box>
        )}
      </DialogContent>
      <DialogActions>
        <Button onClick={close}>Close</Button>
        <Button onClick={() => rehearse.mutate()} disabled={rehearse.isPending}>
          Rehearse
        </Button>
        <Button variant="contained" onClick={() => begin.mutate()} disabled={begin.isPending}>
          Begin
        </Button>
      </DialogActions>
    </Dialog>
  )
}
