import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import FormControlLabel from '@mui/material/FormControlLabel'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { api, take } from '../../api/client'
import { queryClient } from '../../api/queries'
import { Problem } from '../../parts/Problem'

/** ImportDevices adds the devices of a CSV file, after it was shown what would be done. */
export function ImportDevices({ close }: { close: () => void }) {
  const [csv, setCsv] = useState('')
  const [columns, setColumns] = useState('')
  const [partial, setPartial] = useState(false)
  const send = useMutation({
    mutationFn: (dry: boolean) => {
      const map = Object.fromEntries(columns.split('\n').map((l) => l.split('=').map((t) => t.trim())).filter(([ours, theirs]) => ours && theirs) as [string, string][])
      return take(api.POST('/api/v1/imports', { body: { csv, columns: map, partial, dry_run: dry } }))
    },
    onSuccess: (done) => {
      if (done.done) void queryClient.invalidateQueries()
    },
  })
  const adds = send.data?.lines.filter((l) => l.what === 'add').length ?? 0
  return (
    <Dialog open onClose={close} fullWidth maxWidth="md" aria-labelledby="import-title">
      <DialogTitle id="import-title">Import devices</DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 2 }}>
        <Typography sx={{ color: 'text.secondary' }}>
          A CSV file with a header: name, address, site, family, owner, tags, notes, ssh_user, password, credential, host_key, cluster, slot, port, server_name, setting:NAME.
        </Typography>
        <Button variant="outlined" component="label" sx={{ justifySelf: 'start' }}>
          Choose a file
          <input
            id="csv"
            type="file"
            hidden
            onChange={(e) => {
              send.reset()
              void e.target.files?.[0]?.text().then(setCsv)
            }}
          />
        </Button>
        <TextField label="Or paste it" multiline minRows={4} maxRows={12} value={csv} onChange={(e) => setCsv(e.target.value)} />
        <TextField label="Where the header names columns otherwise: name=Hostname, one a line" multiline minRows={1} value={columns} onChange={(e) => setColumns(e.target.value)} />
        <FormControlLabel control={<Checkbox size="small" checked={partial} onChange={(e) => setPartial(e.target.checked)} />} label="Add the lines that are right although others are wrong" />
        {send.error && <Problem error={send.error} />}
        {send.data && (
          <Box aria-label="Account of the import">
            <Typography sx={{ fontWeight: 600 }}>
              {send.data.done ? `${send.data.added} added.` : `${adds} to add, ${send.data.wrong} wrong; nothing was changed yet.`}
            </Typography>
            {send.data.lines
              .filter((l) => l.what === 'error')
              .slice(0, 50)
              .map((l) => (
                <Typography key={l.line} variant="body2" sx={{ color: 'error.main' }}>
                  line {l.line}, {l.device}: {l.why}; {l.next}
                </Typography>
              ))}
          </Box>
        )}
      </DialogContent>
      <DialogActions>
        <Button onClick={close}>Close</Button>
        <Button disabled={!csv || send.isPending} onClick={() => send.mutate(true)}>
          See what it would do
        </Button>
        <Button variant="contained" disabled={!csv || send.isPending} onClick={() => send.mutate(false)}>
          Import
        </Button>
      </DialogActions>
    </Dialog>
  )
}
