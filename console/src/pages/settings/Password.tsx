import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { api, take } from '../../api/client'
import { queryClient } from '../../api/queries'
import { Panel } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'

/** Password changes one's own password, or ends all of one's sessions. */
export function Password() {
  const [old, setOld] = useState('')
  const [fresh, setFresh] = useState('')
  const navigate = useNavigate()
  const change = useMutation({
    mutationFn: () => take(api.POST('/api/v1/password', { body: { old, new: fresh } })),
    onSuccess: () => {
      setOld('')
      setFresh('')
    },
  })
  const out = useMutation({
    mutationFn: () => take(api.DELETE('/api/v1/sessions')),
    onSuccess: () => {
      queryClient.clear()
      void navigate('/sign-in')
    },
  })
  return (
    <Panel title="Your password">
      <Box component="form" aria-label="Change your password" onSubmit={(e) => { e.preventDefault(); change.mutate() }} sx={{ display: 'flex', flexWrap: 'wrap', gap: 1 }}>
        <TextField size="small" type="password" label="Old password" value={old} onChange={(e) => setOld(e.target.value)} autoComplete="current-password" />
        <TextField size="small" type="password" label="New password" value={fresh} onChange={(e) => setFresh(e.target.value)} autoComplete="new-password" />
        <Button type="submit" variant="contained" disabled={!old || !fresh || change.isPending}>
          Change it
        </Button>
        <Button variant="outlined" color="error" onClick={() => out.mutate()}>
          Sign out everywhere
        </Button>
      </Box>
      {change.isSuccess && <Typography role="status">The password is changed; all your other sessions have ended.</Typography>}
      {(change.error ?? out.error) && <Problem error={change.error ?? out.error} />}
    </Panel>
  )
}
