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
import { api, take, type Replacement } from '../../api/client'
import { queryClient } from '../../api/queries'
import { Problem } from '../../parts/Problem'

const words = (text: string) => text.split(/[\s,]+/).filter(Boolean)

/** canAskAgain says that no answer was taken yet, so that another request can be signed instead. */
export function canAskAgain(r: Replacement) {
  return (r.state === 'waiting' && r.stage === 'sign') || (r.state === 'held' && (r.stage === 'request' || r.stage === 'sign'))
}

/** AskAgain has another request made and signed in place of the one that is out. */
export function AskAgain({ r, close }: { r: Replacement; close: () => void }) {
  const [reason, setReason] = useState('')
  const [more, setMore] = useState('')
  const [less, setLess] = useState('')
  const ask = useMutation({
    mutationFn: () => take(api.POST('/api/v1/replacements/{id}/requests', { params: { path: { id: r.id } }, body: { reason, names: words(more), without: words(less) } })),
    onSuccess: () => {
      void queryClient.invalidateQueries()
      close()
    },
  })
  return (
    <Dialog open onClose={close} maxWidth="sm" fullWidth aria-labelledby="again-title">
      <DialogTitle id="again-title">Ask again for {r.id}</DialogTitle>
      <DialogContent>
        <Box component="form" id="again" onSubmit={(e) => { e.preventDefault(); ask.mutate() }} sx={{ display: 'grid', gap: 2, pt: 1 }}>
          <Typography>
            The device makes another request with a new key. The one that is out becomes obsolete: if it is still signed, that is told when it comes, and never installed.
          </Typography>
          <TextField id="again-reason" label="What was wrong with it" value={reason} onChange={(e) => setReason(e.target.value)} autoFocus required />
          <TextField id="again-names" label="Names that it lacked" value={more} onChange={(e) => setMore(e.target.value)} helperText={`It has ${r.plan.names.join(', ')}`} />
          <TextField label="Names that it should not have" value={less} onChange={(e) => setLess(e.target.value)} />
          {ask.error && <Problem error={ask.error} />}
        </Box>
      </DialogContent>
      <DialogActions>
        <Button onClick={close}>Leave it as it is</Button>
        <Button type="submit" form="again" variant="contained" disabled={!reason.trim() || ask.isPending}>
          Make another request
        </Button>
      </DialogActions>
    </Dialog>
  )
}
