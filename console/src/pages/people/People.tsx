import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, take, type Schemas } from '../../api/client'
import { queryClient, sessionQuery, tokensQuery, usersQuery } from '../../api/queries'
import { mono } from '../../app/theme'
import { Confirm } from '../../parts/Confirm'
import { Panel } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { moment } from '../../parts/words'

type Role = Schemas['User']['role']
const roles: Record<Role, string> = { viewer: 'looks', operator: 'reads, replaces, takes in', admin: 'does everything' }
const fresh = () => queryClient.invalidateQueries()

/** People is for admins: who may sign in, with which role, and which programs have a token. */
export function People() {
  const users = useQuery(usersQuery)
  const tokens = useQuery(tokensQuery)
  const wrong = users.error ?? tokens.error
  if (wrong) return <Problem error={wrong} />
  return (
    <Box sx={{ display: 'grid', gap: 2 }}>
      <Typography variant="h1">People</Typography>
      <Panel title="Users">
        {(users.data ?? []).map((u) => (
          <UserRow key={u.name} user={u} />
        ))}
        <AddUser />
      </Panel>
      <Panel title="Tokens for programs">
        {(tokens.data ?? []).length === 0 && <Typography sx={{ color: 'text.secondary' }}>None. A token lets a program in, with a role and until a day that you choose.</Typography>}
        {(tokens.data ?? []).map((t) => (
          <TokenRow key={t.id} token={t} />
        ))}
        <AddToken />
      </Panel>
    </Box>
  )
}

function RoleField({ value, set }: { value: Role; set: (role: Role) => void }) {
  return (
    <TextField select size="small" label="Role" value={value} onChange={(e) => set(e.target.value as Role)} sx={{ width: 230 }}>
      {(Object.keys(roles) as Role[]).map((r) => (
        <MenuItem key={r} value={r}>
          {r}: {roles[r]}
        </MenuItem>
      ))}
    </TextField>
  )
}

const row = { display: 'flex', flexWrap: 'wrap', gap: 2, alignItems: 'center', py: 1, borderBottom: 1, borderColor: 'divider' } as const

function UserRow({ user }: { user: Schemas['User'] }) {
  const me = useQuery(sessionQuery)
  const [sure, setSure] = useState(false)
  const path = { params: { path: { name: user.name } } }
  const edit = useMutation({ mutationFn: (role: Role) => take(api.PATCH('/api/v1/users/{name}', { ...path, body: { role } })), onSettled: fresh })
  const remove = useMutation({ mutationFn: () => take(api.DELETE('/api/v1/users/{name}', path)), onSettled: fresh })
  const mine = me.data?.user === user.name
  return (
    <Box>
      <Box sx={row}>
        <Typography sx={{ fontWeight: 600, minWidth: 120 }}>{user.name}</Typography>
        {mine ? <Typography>{user.role}, that is you</Typography> : <RoleField value={user.role} set={(r) => edit.mutate(r)} />}
        <Typography sx={{ color: 'text.secondary', flexGrow: 1 }}>since {moment(user.added_at)}</Typography>
        {!mine && (
          <Button size="small" color="error" onClick={() => setSure(true)}>
            Remove
          </Button>
        )}
      </Box>
      {(edit.error ?? remove.error) && <Problem error={edit.error ?? remove.error} />}
      {sure && <Confirm question={`Let ${user.name} in no more? All sessions end.`} yes="Remove" act={() => remove.mutate()} close={() => setSure(false)} />}
    </Box>
  )
}

function AddUser() {
  const [name, setName] = useState('')
  const [password, setPassword] = useState('')
  const [role, setRole] = useState<Role>('viewer')
  const add = useMutation({
    mutationFn: () => take(api.POST('/api/v1/users', { body: { name, role, password } })),
    onSuccess: () => {
      setName('')
      setPassword('')
      return fresh()
    },
  })
  return (
    <Box component="form" aria-label="Add a user" onSubmit={(e) => { e.preventDefault(); add.mutate() }} sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, pt: 2 }}>
      <TextField size="small" label="Name" value={name} onChange={(e) => setName(e.target.value)} autoComplete="off" />
      <TextField size="small" label="First password" type="password" value={password} onChange={(e) => setPassword(e.target.value)} autoComplete="new-password" />
      <RoleField value={role} set={setRole} />
      <Button type="submit" variant="contained" disabled={!name || !password || add.isPending}>
        Add
      </Button>
      {add.error && <Box sx={{ width: '100%' }}><Problem error={add.error} /></Box>}
    </Box>
  )
}

function TokenRow({ token: t }: { token: Schemas['Token'] }) {
  const end = useMutation({ mutationFn: () => take(api.DELETE('/api/v1/tokens/{id}', { params: { path: { id: t.id } } })), onSettled: fresh })
  return (
    <Box sx={row}>
      <Typography sx={{ fontWeight: 600, minWidth: 120 }}>{t.label}</Typography>
      <span>
        {t.role}, by {t.user}
      </span>
      <Typography sx={{ color: 'text.secondary', flexGrow: 1 }}>until {moment(t.ends_at)}</Typography>
      <Button size="small" color="error" disabled={end.isPending} onClick={() => end.mutate()}>
        End it
      </Button>
    </Box>
  )
}

function AddToken() {
  const [label, setLabel] = useState('')
  const [days, setDays] = useState('90')
  const [role, setRole] = useState<Role>('viewer')
  const add = useMutation({ mutationFn: () => take(api.POST('/api/v1/tokens', { body: { label, role, days: Number(days) } })), onSuccess: fresh })
  return (
    <Box component="form" aria-label="Make a token" onSubmit={(e) => { e.preventDefault(); add.mutate() }} sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, pt: 2 }}>
      <TextField size="small" label="What it is for" value={label} onChange={(e) => setLabel(e.target.value)} />
      <RoleField value={role} set={setRole} />
      <TextField size="small" label="Days" type="number" value={days} onChange={(e) => setDays(e.target.value)} sx={{ width: 100 }} />
      <Button type="submit" variant="contained" disabled={!label || add.isPending}>
        Make a token
      </Button>
      {add.error && <Box sx={{ width: '100%' }}><Problem error={add.error} /></Box>}
      {add.data && (
        <Alert severity="warning" variant="outlined" sx={{ width: '100%' }}>
          This is shown once; keep it where the program finds it:
          <Box sx={{ fontFamily: mono, overflowWrap: 'anywhere' }}>{add.data.secret}</Box>
        </Alert>
      )}
    </Box>
  )
}
