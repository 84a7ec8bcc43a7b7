import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, take, type Schemas } from '../../api/client'
import { credentialsQuery, queryClient } from '../../api/queries'
import { Panel } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'

const blank = { name: '', ssh_user: '', password: '' }

/** Credentials are users and secrets that devices share. A secret is taken and never shown. */
export function Credentials() {
  const all = useQuery(credentialsQuery)
  const [n, setN] = useState(blank)
  const there = all.data?.some((c) => c.name === n.name)
  const save = useMutation({
    mutationFn: () => {
      const change = { ssh_user: n.ssh_user, password: n.password }
      if (there) return take(api.PUT('/api/v1/credentials/{name}', { params: { path: { name: n.name } }, body: change }))
      return take(api.POST('/api/v1/credentials', { body: { name: n.name, ...change } }))
    },
    onSuccess: () => {
      setN(blank)
      return queryClient.invalidateQueries()
    },
  })
  if (all.error) return <Problem error={all.error} />
  return (
    <Panel title="Credentials that devices share">
      {(all.data ?? []).map((c) => (
        <CredentialRow key={c.name} credential={c} replace={() => setN({ name: c.name, ssh_user: c.ssh_user, password: '' })} />
      ))}
      <Box component="form" aria-label="Add a credential" onSubmit={(e) => { e.preventDefault(); save.mutate() }} sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, pt: 2 }}>
        <TextField size="small" label="Name" value={n.name} onChange={(e) => setN({ ...n, name: e.target.value })} autoComplete="off" />
        <TextField size="small" label="SSH user" value={n.ssh_user} onChange={(e) => setN({ ...n, ssh_user: e.target.value })} autoComplete="off" />
        <TextField size="small" label="Password" type="password" value={n.password} onChange={(e) => setN({ ...n, password: e.target.value })} autoComplete="new-password" />
        <Button type="submit" variant="contained" disabled={!n.name || !n.ssh_user || !n.password || save.isPending}>
          {there ? `Put it in the place of ${n.name}` : 'Add'}
        </Button>
      </Box>
      {save.error && <Problem error={save.error} />}
    </Panel>
  )
}

function CredentialRow({ credential: c, replace }: { credential: Schemas['Credential']; replace: () => void }) {
  const remove = useMutation({ mutationFn: () => take(api.DELETE('/api/v1/credentials/{name}', { params: { path: { name: c.name } } })), onSettled: () => queryClient.invalidateQueries() })
  return (
    <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 2, py: 1, alignItems: 'baseline', borderBottom: 1, borderColor: 'divider' }}>
      <Typography sx={{ fontWeight: 600, minWidth: 110 }}>{c.name}</Typography>
      <span>{c.ssh_user}</span>
      <Typography component="span" sx={{ color: 'text.secondary', flexGrow: 1 }}>
        {c.devices} {c.devices === 1 ? 'device' : 'devices'}
      </Typography>
      <Button size="small" onClick={replace}>
        Replace
      </Button>
      <Button size="small" color="error" disabled={c.devices > 0} onClick={() => remove.mutate()}>
        Remove
      </Button>
      {remove.error && <Problem error={remove.error} />}
    </Box>
  )
}
