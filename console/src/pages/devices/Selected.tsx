import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import Paper from '@mui/material/Paper'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { ApiError, api, take } from '../../api/client'
import { queryClient, signersQuery } from '../../api/queries'
import { Confirm } from '../../parts/Confirm'

type Outcome = { name: string; ok: boolean; said: string }

/** each does something with one device after the other and tells of each what became of it: one that fails stops no other. */
async function each(names: string[], act: (name: string) => Promise<string>): Promise<Outcome[]> {
  const out: Outcome[] = []
  for (const name of names) {
    try {
      out.push({ name, ok: true, said: await act(name) })
    } catch (e) {
      out.push({ name, ok: false, said: e instanceof ApiError ? [e.title, e.detail].filter(Boolean).join(': ') : String(e) })
    }
  }
  await queryClient.invalidateQueries()
  return out
}

async function replaceAll(name: string, signer: string) {
  const device = await take(api.GET('/api/v1/devices/{name}', { params: { path: { name } } }))
  const begun: string[] = []
  for (const slot of device.slots) {
    const r = await take(api.POST('/api/v1/replacements', { body: { device: name, slot: slot.name, signer } }))
    begun.push(`${r.id} has begun`)
  }
  return begun.join(', ')
}

/** Selected is what can be done with several devices together. */
export function Selected({ names, clear }: { names: string[]; clear: () => void }) {
  const signers = useQuery(signersQuery)
  const [signer, setSigner] = useState('desk')
  const [sure, setSure] = useState(false)
  const act = useMutation({
    mutationFn: (what: 'try' | 'replace' | 'remove') =>
      each(names, async (name) => {
        if (what === 'replace') return replaceAll(name, signer)
        if (what === 'remove') {
          await take(api.DELETE('/api/v1/devices/{name}', { params: { path: { name } } }))
          return 'removed'
        }
        const t = await take(api.POST('/api/v1/devices/{name}/tries', { params: { path: { name } } }))
        const bad = t.looks.find((l) => !l.ok)
        if (bad) throw new ApiError(0, bad.what, bad.said)
        return 'can be reached'
      }),
  })
  if (names.length === 0 && !act.data) return null // what became of those that are gone is still told
  return (
    <Paper aria-label="Chosen devices" component="section" sx={{ p: 1.5, display: 'grid', gap: 1 }}>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, alignItems: 'center' }}>
        <Typography sx={{ fontWeight: 600 }}>{names.length} chosen</Typography>
        <Button size="small" variant="outlined" disabled={act.isPending || names.length === 0} onClick={() => act.mutate('try')}>
          Try and read
        </Button>
        <TextField select size="small" label="Signer" value={signer} onChange={(e) => setSigner(e.target.value)} sx={{ width: 110 }}>
          {(signers.data ?? []).map((s) => (
            <MenuItem key={s.name} value={s.name}>
              {s.name}
            </MenuItem>
          ))}
        </TextField>
        <Button size="small" variant="contained" disabled={act.isPending || names.length === 0} onClick={() => act.mutate('replace')}>
          Replace all
        </Button>
        <Button size="small" variant="outlined" color="error" disabled={act.isPending || names.length === 0} onClick={() => setSure(true)}>
          Remove
        </Button>
        <Button
          size="small"
          onClick={() => {
            act.reset()
            clear()
          }}
        >
          Choose none
        </Button>
      </Box>
      {act.data?.map((o) => (
        <Typography key={o.name} variant="body2" sx={{ color: o.ok ? 'text.secondary' : 'error.main', overflowWrap: 'anywhere' }}>
          {o.ok ? '✓' : '✕'} {o.name}: {o.said}
        </Typography>
      ))}
      {sure && (
        <Confirm question={`Forget ${names.length} devices with their history and secrets?`} yes="Remove" close={() => setSure(false)} act={() => act.mutate('remove')} />
      )}
    </Paper>
  )
}
