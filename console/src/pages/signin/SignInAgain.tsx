import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { api, take } from '../../api/client'
import { connection } from '../../api/connection'
import { queryClient } from '../../api/queries'
import { Problem } from '../../parts/Problem'
import { CodeField } from './CodeField'
import { needsCode } from './needsCode'

/** SignInAgain asks for the password over the page when a session has ended: what is typed there stays. */
export function SignInAgain({ user }: { user: string }) {
  const [password, setPassword] = useState('')
  const [code, setCode] = useState('')
  const signIn = useMutation({
    mutationFn: () => take(api.POST('/api/v1/session', { body: { user, password, ...(code && { code }) } })),
    onSuccess: () => {
      connection.signedIn()
      void queryClient.invalidateQueries()
    },
  })
  return (
    <Dialog open maxWidth="xs" fullWidth aria-labelledby="again-signed-in" sx={{ zIndex: 1500 }}>
      <DialogTitle id="again-signed-in">Your session has ended</DialogTitle>
      <Box
        component="form"
        onSubmit={(e) => {
          e.preventDefault()
          signIn.mutate()
        }}
      >
        <DialogContent sx={{ display: 'grid', gap: 2 }}>
          <Typography>
            Enter the password of <bdi>{user}</bdi> to go on. What you typed on the page stays.
          </Typography>
          <input type="text" name="username" autoComplete="username" value={user} readOnly hidden />
          <TextField
            id="password-again"
            label="Password"
            type="password"
            value={password}
            onChange={(e) => setPassword(e.target.value)}
            autoComplete="current-password"
            autoFocus
            required
            size="small"
          />
          <CodeField error={signIn.error} code={code} set={setCode} />
          {signIn.error && !needsCode(signIn.error) && <Problem error={signIn.error} />}
        </DialogContent>
        <DialogActions>
          <Button href="/sign-in" color="inherit">
            Sign in as somebody else
          </Button>
          <Button type="submit" variant="contained" disabled={signIn.isPending || !password}>
            Go on
          </Button>
        </DialogActions>
      </Box>
    </Dialog>
  )
}
