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
import { Problem } from '../../parts/Problem'

/** ConfirmIdentity asks for the password or a code again before what cannot be taken back; then the call is made. */
export function ConfirmIdentity({ user, factor }: { user: string; factor: boolean }) {
  const [given, setGiven] = useState('')
  const confirm = useMutation({
    mutationFn: () =>
      take(api.POST('/api/v1/session/confirmation', { body: factor ? { code: given } : { password: given } })),
    onSuccess: () => connection.confirmed(true),
  })
  return (
    <Dialog
      open
      maxWidth="xs"
      fullWidth
      aria-labelledby="confirm-identity"
      sx={{ zIndex: 1500 }}
      onClose={() => connection.confirmed(false)}
    >
      <DialogTitle id="confirm-identity">Confirm that it is you</DialogTitle>
      <Box
        component="form"
        onSubmit={(e) => {
          e.preventDefault()
          confirm.mutate()
        }}
      >
        <DialogContent sx={{ display: 'grid', gap: 2 }}>
          <Typography>
            This cannot be taken back. Enter {factor ? 'a code of the authenticator' : 'the password'} of{' '}
            <bdi>{user}</bdi> to go on.
          </Typography>
          <input type="text" name="username" autoComplete="username" value={user} readOnly hidden />
          <TextField
            id="confirm-given"
            label={factor ? 'Code of your authenticator' : 'Password'}
            type={factor ? 'text' : 'password'}
            value={given}
            onChange={(e) => setGiven(e.target.value)}
            autoComplete={factor ? 'one-time-code' : 'current-password'}
            autoFocus
            required
            size="small"
          />
          {confirm.error && <Problem error={confirm.error} />}
        </DialogContent>
        <DialogActions>
          <Button color="inherit" onClick={() => connection.confirmed(false)}>
            Do not do it
          </Button>
          <Button type="submit" variant="contained" disabled={confirm.isPending || !given}>
            Confirm
          </Button>
        </DialogActions>
      </Box>
    </Dialog>
  )
}
