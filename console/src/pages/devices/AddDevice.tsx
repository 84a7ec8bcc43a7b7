import Alert from '@mui/material/Alert'
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
import { useNavigate } from 'react-router'
import { api, take } from '../../api/client'
import { credentialsQuery, familiesQuery, queryClient, sitesQuery } from '../../api/queries'
import { mono } from '../../app/theme'
import { Problem } from '../../parts/Problem'

// A choice that is empty says so.
const shown = { select: { displayEmpty: true }, inputLabel: { shrink: true } }
const blank = { name: '', address: '', site: '', family: '', port: '443', serverName: '', user: '', password: '', credential: '', sshPort: '22' }

/** AddDevice takes a device in: its host key is shown and compared by a person before it is pinned. */
export function AddDevice({ close }: { close: () => void }) {
  const families = useQuery(familiesQuery)
  const sites = useQuery(sitesQuery)
  const credentials = useQuery(credentialsQuery)
  const navigate = useNavigate()
  const [d, setD] = useState(blank)
  const field = (name: keyof typeof blank, label: string, more: { help?: string; type?: string } = {}) => (
    <TextField size="small" label={label} type={more.type ?? 'text'} helperText={more.help} value={d[name]} onChange={(e) => setD({ ...d, [name]: e.target.value })} autoComplete="off" />
  )
  const signsIn = families.data?.find((f) => f.name === d.family)?.links.includes('ssh') ?? false
  const look = useMutation({ mutationFn: () => take(api.POST('/api/v1/host-keys', { body: { site: d.site, address: d.address, port: Number(d.sshPort) } })) })
  const add = useMutation({
    mutationFn: () =>
      take(
        api.POST('/api/v1/devices', {
          body: {
            name: d.name, address: d.address, site: d.site, family: d.family,
            slots: [{ name: 'web', port: Number(d.port), server_name: d.serverName || (d.name.includes('.') ? d.name : '') }],
            ...(signsIn && { host_key: look.data?.host_key ?? '', ssh_port: Number(d.sshPort), ...(d.credential ? { credential: d.credential } : { ssh_user: d.user, password: d.password }) }),
          },
        }),
      ),
    onSuccess: async (made) => {
      await take(api.POST('/api/v1/devices/{name}/tries', { params: { path: { name: made.name } } }))
      await queryClient.invalidateQueries()
      void navigate(`/devices/${encodeURIComponent(made.name)}`)
    },
  })
  return (
    <Dialog open onClose={close} fullWidth maxWidth="sm" aria-labelledby="add-title">
      <DialogTitle id="add-title">Add a device</DialogTitle>
      <DialogContent>
        <Box sx={{ display: 'grid', gap: 2, pt: 1, gridTemplateColumns: { xs: '1fr', sm: '1fr 1fr' } }}>
          {field('name', 'Name', { help: 'small letters, digits, dots and hyphens' })}
          {field('address', 'Address')}
          <TextField select size="small" label="Site" slotProps={shown} value={d.site} onChange={(e) => setD({ ...d, site: e.target.value })} helperText="the way into it is set under Settings">
            <MenuItem value="">none</MenuItem>
            {(sites.data ?? []).map((s) => (
              <MenuItem key={s.name} value={s.name}>
                {s.name}
              </MenuItem>
            ))}
          </TextField>
          <TextField select size="small" label="Family" slotProps={shown} value={d.family} onChange={(e) => setD({ ...d, family: e.target.value })} helperText="what it is; none: it can only be read">
            <MenuItem value="">none, only read it</MenuItem>
            {(families.data ?? [])
              .filter((f) => !f.links.includes('service'))
              .map((f) => (
                <MenuItem key={f.name} value={f.name}>
                  {f.title}
                </MenuItem>
              ))}
          </TextField>
          {field('port', 'Port of its web page', { type: 'number' })}
          {field('serverName', 'Server name', { help: 'the name that clients use; empty: its own' })}
          {signsIn && (
            <TextField select size="small" label="Credential" slotProps={shown} value={d.credential} onChange={(e) => setD({ ...d, credential: e.target.value })}>
              <MenuItem value="">one of its own</MenuItem>
              {(credentials.data ?? []).map((c) => (
                <MenuItem key={c.name} value={c.name}>
                  {c.name} ({c.ssh_user})
                </MenuItem>
              ))}
            </TextField>
          )}
          {signsIn && field('sshPort', 'SSH port', { type: 'number' })}
          {signsIn && !d.credential && field('user', 'SSH user')}
          {signsIn && !d.credential && field('password', 'Password', { type: 'password' })}
        </Box>
        {signsIn && look.data && (
          <Alert severity="warning" variant="outlined" sx={{ mt: 2 }}>
            It shows this host key. Compare it with its own console before you add it:
            <Box sx={{ fontFamily: mono, overflowWrap: 'anywhere' }}>{look.data.host_key}</Box>
          </Alert>
        )}
        {(look.error ?? add.error) && <Problem error={look.error ?? add.error} />}
      </DialogContent>
      <DialogActions>
        <Button onClick={close}>Close</Button>
        {signsIn && !look.data ? (
          <Button variant="contained" disabled={!d.address || look.isPending} onClick={() => look.mutate()}>
            {look.isPending ? 'Asking…' : 'Ask for its host key'}
          </Button>
        ) : (
          <Button variant="contained" disabled={!d.name || !d.address || add.isPending} onClick={() => add.mutate()}>
            {signsIn ? 'The key is right: add it' : 'Add it'}
          </Button>
        )}
      </DialogActions>
    </Dialog>
  )
}
