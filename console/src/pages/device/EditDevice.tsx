import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, take, type Device, type Schemas } from '../../api/client'
import { credentialsQuery, familiesQuery, queryClient } from '../../api/queries'
import { Problem } from '../../parts/Problem'

/** EditDevice changes a device; only what was changed is sent, and only onto what was looked at. */
export function EditDevice({ device: d, etag, close }: { device: Device; etag: string; close: () => void }) {
  const families = useQuery(familiesQuery)
  const credentials = useQuery(credentialsQuery)
  const [change, setChange] = useState<Schemas['EditDevice']>({})
  const save = useMutation({
    mutationFn: () => take(api.PATCH('/api/v1/devices/{name}', { params: { path: { name: d.name } }, body: change, headers: { 'If-Match': etag } })),
    onSuccess: async () => {
      await queryClient.invalidateQueries()
      close()
    },
  })
  const family = change.family ?? d.family
  const settings = families.data?.find((f) => f.name === family)?.settings ?? []
  type Words = 'address' | 'site' | 'owner' | 'notes' | 'cluster' | 'cluster_role' | 'ssh_user' | 'host_key' | 'password'
  const field = (name: Words, label: string, type = 'text') => (
    <TextField
      size="small"
      label={label}
      type={type}
      autoComplete="off"
      value={change[name] ?? (name === 'password' ? '' : d[name])}
      onChange={(e) => setChange({ ...change, [name]: e.target.value })}
      {...(name === 'password' && { helperText: 'empty: stays as it is' })}
    />
  )
  return (
    <Dialog open onClose={close} fullWidth maxWidth="md" aria-labelledby="edit-title">
      <DialogTitle id="edit-title">Edit {d.name}</DialogTitle>
      <DialogContent>
        <Box sx={{ display: 'grid', gap: 2, pt: 1, gridTemplateColumns: { xs: '1fr', sm: '1fr 1fr' } }}>
          {field('address', 'Address')}
          {field('site', 'Site')}
          <TextField select size="small" label="Family" value={family} onChange={(e) => setChange({ ...change, family: e.target.value })}>
            <MenuItem value="">none, only read it</MenuItem>
            {(families.data ?? []).map((f) => (
              <MenuItem key={f.name} value={f.name}>
                {f.title}
              </MenuItem>
            ))}
          </TextField>
          <TextField select size="small" label="Credential" value={change.credential ?? d.credential} onChange={(e) => setChange({ ...change, credential: e.target.value })}>
            <MenuItem value="">one of its own</MenuItem>
            {(credentials.data ?? []).map((c) => (
              <MenuItem key={c.name} value={c.name}>
                {c.name} ({c.ssh_user})
              </MenuItem>
            ))}
          </TextField>
          {field('ssh_user', 'SSH user')}
          {field('password', 'New password', 'password')}
          {field('host_key', 'Host key, as you compared it')}
          {field('owner', 'Owner')}
          {field('cluster', 'Cluster')}
          {field('cluster_role', 'Role in it: active, standby or member')}
          <TextField size="small" label="Tags, with blanks" value={(change.tags ?? d.tags).join(' ')} onChange={(e) => setChange({ ...change, tags: e.target.value.split(' ') })} />
          {field('notes', 'Notes')}
          {settings.map((s) => (
            <TextField
              key={s.name}
              size="small"
              label={s.name}
              helperText={`${s.about}${s.default ? `; usually ${s.default}` : ''}`}
              value={change.settings?.[s.name] ?? d.settings[s.name] ?? ''}
              onChange={(e) => setChange({ ...change, settings: { ...change.settings, [s.name]: e.target.value } })}
            />
          ))}
        </Box>
        {save.error && <Problem error={save.error} />}
      </DialogContent>
      <DialogActions>
        <Button onClick={close}>Close</Button>
        <Button variant="contained" disabled={save.isPending || Object.keys(change).length === 0} onClick={() => save.mutate()}>
          Save
        </Button>
      </DialogActions>
    </Dialog>
  )
}
