import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, take, type Schemas } from '../../api/client'
import { queryClient, sitesQuery } from '../../api/queries'
import { mono } from '../../app/theme'
import { Confirm } from '../../parts/Confirm'
import { Panel } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'

type Site = Schemas['Site']
const ways = { direct: 'reached directly', jump: 'through an SSH jump host', socks: 'through a SOCKS5 proxy' }
const blank = { name: '', way: 'direct' as Site['way'], address: '', ssh_user: '', password: '', organization: '', locality: '', country: '', most_links: '' }

/** Sites are the places with a way in, and what the requests of their devices say. */
export function Sites() {
  const all = useQuery(sitesQuery)
  const [adding, setAdding] = useState(false)
  if (all.error) return <Problem error={all.error} />
  return (
    <Panel title="Sites" action={<Button size="small" onClick={() => setAdding(!adding)}>{adding ? 'Close' : 'Add a site'}</Button>}>
      {(all.data ?? []).length === 0 && <Typography sx={{ color: 'text.secondary' }}>None is set up: every device is reached directly.</Typography>}
      {(all.data ?? []).map((s) => (
        <SiteRow key={s.name} site={s} />
      ))}
      {adding && <AddSite close={() => setAdding(false)} />}
    </Panel>
  )
}

function SiteRow({ site: s }: { site: Site }) {
  const [sure, setSure] = useState(false)
  const remove = useMutation({ mutationFn: () => take(api.DELETE('/api/v1/sites/{name}', { params: { path: { name: s.name } } })), onSettled: () => queryClient.invalidateQueries() })
  return (
    <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 2, py: 1, alignItems: 'baseline', borderBottom: 1, borderColor: 'divider' }}>
      <Typography sx={{ fontWeight: 600, minWidth: 110 }}>{s.name}</Typography>
      <span>
        {ways[s.way]} {s.address && `${s.address}:${s.port}`}
      </span>
      <Typography component="span" sx={{ color: 'text.secondary', flexGrow: 1 }}>
        {Object.entries(s.subject).map(([name, value]) => `${name} ${value}`).join(', ')}
        {s.most_links > 0 && ` at most ${s.most_links} links at once`}
      </Typography>
      <Button size="small" color="error" onClick={() => setSure(true)}>
        Remove
      </Button>
      {remove.error && <Problem error={remove.error} />}
      {sure && <Confirm question={`Forget the way into ${s.name}? Its devices are reached directly then.`} yes="Remove" act={() => remove.mutate()} close={() => setSure(false)} />}
    </Box>
  )
}

function AddSite({ close }: { close: () => void }) {
  const [n, setN] = useState(blank)
  const port = n.way === 'socks' ? 1080 : 22
  const look = useMutation({ mutationFn: () => take(api.POST('/api/v1/host-keys', { body: { address: n.address, port } })) })
  const add = useMutation({
    mutationFn: () =>
      take(
        api.POST('/api/v1/sites', {
          body: {
            name: n.name, way: n.way, most_links: Number(n.most_links), subject: { organization: n.organization, locality: n.locality, country: n.country },
            ...(n.way !== 'direct' && { address: n.address, port }),
            ...(n.way === 'jump' && { ssh_user: n.ssh_user, password: n.password, host_key: look.data?.host_key ?? '' }),
          },
        }),
      ),
    onSuccess: async () => {
      await queryClient.invalidateQueries()
      close()
    },
  })
  const field = (name: keyof typeof blank, label: string, type = 'text') => (
    <TextField size="small" type={type} label={label} value={n[name]} autoComplete="off" onChange={(e) => setN({ ...n, [name]: e.target.value })} />
  )
  const compare = n.way === 'jump' && !look.data
  return (
    <Box sx={{ display: 'grid', gap: 1.5, pt: 2, gridTemplateColumns: { xs: '1fr', sm: 'repeat(3, 1fr)' } }}>
      {field('name', 'Name')}
      <TextField select size="small" label="Way" value={n.way} onChange={(e) => setN({ ...n, way: e.target.value as Site['way'] })}>
        {Object.entries(ways).map(([way, text]) => (
          <MenuItem key={way} value={way}>
            {text}
          </MenuItem>
        ))}
      </TextField>
      {field('most_links', 'Links at once; empty: no limit', 'number')}
      {n.way !== 'direct' && field('address', n.way === 'jump' ? 'Address of the jump host' : 'Address of the proxy')}
      {n.way === 'jump' && field('ssh_user', 'SSH user')}
      {n.way === 'jump' && field('password', 'Password', 'password')}
      {field('organization', 'Organization in requests')}
      {field('locality', 'Locality in requests')}
      {field('country', 'Country in requests, two letters')}
      {look.data && (
        <Typography sx={{ gridColumn: '1 / -1' }}>
          The jump host shows <span style={{ fontFamily: mono }}>{look.data.host_key}</span>; compare it with its own console.
        </Typography>
      )}
      <Box sx={{ gridColumn: '1 / -1' }}>
        <Button variant="contained" disabled={!n.name || look.isPending || add.isPending} onClick={() => (compare ? look.mutate() : add.mutate())}>
          {compare ? 'Ask for its host key' : n.way === 'jump' ? 'The key is right: add it' : 'Add it'}
        </Button>
        {(look.error ?? add.error) && <Problem error={look.error ?? add.error} />}
      </Box>
    </Box>
  )
}
