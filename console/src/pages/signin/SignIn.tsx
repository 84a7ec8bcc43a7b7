import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Paper from '@mui/material/Paper'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation } from '@tanstack/react-query'
import { useState, type FormEvent } from 'react'
import { useLocation, useNavigate } from 'react-router'
import { api, take } from '../../api/client'
import { queryClient } from '../../api/queries'
import { Problem } from '../../parts/Problem'
import { Seal } from '../../parts/Seal'

/** SignIn asks for name and password, then leads back to where one wanted to go. */
export function SignIn() {
  const [user, setUser] = useState('')
  const [password, setPassword] = useState('')
  const navigate = useNavigate()
  const from = (useLocation().state as { from?: string } | null)?.from ?? '/'
  const signIn = useMutation({
    mutationFn: () => take(api.POST('/api/v1/session', { body: { user, password } })),
    onSuccess: () => {
      queryClient.clear()
      void navigate(from, { replace: true })
    },
  })
  const submit = (e: FormEvent) => {
    e.preventDefault()
    signIn.mutate()
  }
  return (
    <Box component="main" sx={{ minHeight: '100vh', display: 'grid', placeItems: 'center', p: 2 }}>
      <Paper component="form" onSubmit={submit} sx={{ p: 4, width: '100%', maxWidth: 380, display: 'grid', gap: 2 }}>
        <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5 }}>
          <Seal size={36} />
          <Typography variant="h1">Fresh Seal</Typography>
        </Box>
        <Typography sx={{ color: 'text.secondary' }}>Sign in to look after the certificates of your fleet.</Typography>
        <TextField label="User" value={user} onChange={(e) => setUser(e.target.value)} autoComplete="username" autoFocus required size="small" slotProps={{ htmlInput: { id: 'user' } }} />
        <TextField label="Password" type="password" value={password} onChange={(e) => setPassword(e.target.value)} autoComplete="current-password" required size="small" slotProps={{ htmlInput: { id: 'password' } }} />
        {signIn.error && <Problem error={signIn.error} />}
        <Button type="submit" variant="contained" disabled={signIn.isPending}>
          Sign in
        </Button>
      </Paper>
    </Box>
  )
}
