import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Paper from '@mui/material/Paper'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation } from '@tanstack/react-query'
import { useState, type SyntheticEvent } from 'react'
import { useLocation, useNavigate } from 'react-router'
import { api, take } from '../../api/client'
import { connection } from '../../api/connection'
import { queryClient } from '../../api/queries'
import { useTitle } from '../../parts/Heading'
import { Problem } from '../../parts/Problem'
import { Seal } from '../../parts/Seal'
import { CodeField } from './CodeField'
import { needsCode } from './needsCode'

/** SignIn asks for name and password, then leads back to where one wanted to go. */
export function SignIn() {
  useTitle('Sign in')
  const [user, setUser] = useState('')
  const [password, setPassword] = useState('')
  const [code, setCode] = useState('')
  const navigate = useNavigate()
  const from = (useLocation().state as { from?: string } | null)?.from ?? '/'
  const signIn = useMutation({
    mutationFn: () => take(api.POST('/api/v1/session', { body: { user, password, ...(code && { code }) } })),
    onSuccess: () => {
      queryClient.clear()
      connection.signedIn()
      void navigate(from, { replace: true })
    },
  })
  const submit = (e: SyntheticEvent) => {
    e.preventDefault()
    signIn.mutate()
  }
  return (
    <Box component="main" sx={{ minHeight: '100vh', display: 'grid', placeItems: 'center', p: 2 }}>
      <Paper
        component="form"
        aria-label="Sign in"
        onSubmit={submit}
        sx={{ p: 4, width: '100%', maxWidth: 380, display: 'grid', gap: 2 }}
      >
        <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5 }}>
          <Seal size={36} />
          <Typography variant="h1">Fresh Seal</Typography>
        </Box>
        <Typography sx={{ color: 'text.secondary' }}>Sign in to manage the certificates of your fleet.</Typography>
        <TextField
          id="user"
          label="User"
          value={user}
          onChange={(e) => setUser(e.target.value)}
          autoComplete="username"
          autoFocus
          required
          size="small"
        />
        <TextField
          id="password"
          label="Password"
          type="password"
          value={password}
          onChange={(e) => setPassword(e.target.value)}
          autoComplete="current-password"
          required
          size="small"
        />
        <CodeField error={signIn.error} code={code} set={setCode} />
        {signIn.error && !needsCode(signIn.error) && <Problem error={signIn.error} />}
        <Button type="submit" variant="contained" disabled={signIn.isPending}>
          Sign in
        </Button>
      </Paper>
    </Box>
  )
}
