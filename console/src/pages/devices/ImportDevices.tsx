import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import FormControlLabel from '@mui/material/FormControlLabel'
import LinearProgress from '@mui/material/LinearProgress'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import { api, take } from '../../api/client'
import { stale } from '../../api/queries'
import { count } from '../../parts/list/paging'
import { Problem } from '../../parts/Problem'

/** ImportDevices adds the devices of a CSV file, after it was shown what would be done. */
export function ImportDevices({ close }: { close: () => void }) {
  const file = useRef<HTMLInputElement>(null)
  const [csv, setCsv] = useState('')
  const [columns, setColumns] = useState('')
  const [partial, setPartial] = useState(false)
  const [sure, setSure] = useState(false)
  const send = useMutation({
    mutationFn: (dry: boolean) => take(api.POST('/api/v1/imports', { body: { csv, columns: mapping(columns), partial, dry_run: dry } })),
    onSuccess: (done) => done.done && stale('devices'),
  })
  const adds = send.data?.lines.filter((l) => l.what === 'add').length ?? 0
  const lines = Math.max(0, csv.trimEnd().split('\n').length - 1)
  const leave = () => (csv && !send.data?.done ? setSure(true) : close())
  return (
    <Dialog open onClose={leave} fullWidth maxWidth="md" aria-labelledby="import-title">
      <DialogTitle id="import-title">Import devices</DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 2 }}>
        <Typography sx={{ color: 'text.secondary' }}>
          A CSV file with a header: name, address, site, family, owner, tags, notes, nodes, cluster, slot, port, server_name, slot_more, ssh:user, ssh:password, ssh:credential,
          ssh:pin, setting:NAME.
        </Typography>
        <Button variant="outlined" onClick={() => file.current?.click()} sx={{ justifySelf: 'start' }}>
          Choose a file
        </Button>
        <input
          id="csv"
          type="file"
          aria-label="CSV file"
          hidden
          ref={file}
          onChange={(e) => {
            send.reset()
            void e.target.files?.[0]?.text().then(setCsv)
          }}
        />
        <TextField id="import-text" label="Or paste it" multiline minRows={4} maxRows={12} value={csv} onChange={(e) => setCsv(e.target.value)} />
        <TextField id="import-columns" label="Column mapping: name=Hostname, one per line" multiline minRows={1} value={columns} onChange={(e) => setColumns(e.target.value)} />
        <FormControlLabel
          control={<Checkbox size="small" checked={partial} onChange={(e) => setPartial(e.target.checked)} />}
          label="Add the valid lines although others are invalid"
        />
        {send.isPending && (
          <Box role="status">
            <Typography>{count(lines)} lines are read and checked; all are added at once.</Typography>
            <LinearProgress aria-label="Import" />
          </Box>
        )}
        {send.error && <Problem error={send.error} />}
        {send.data && (
          <Box role="group" aria-label="Account of the import">
            <Typography role="status" sx={{ fontWeight: 600 }}>
              {send.data.done ? `${count(send.data.added)} added.` : `${count(adds)} to add, ${count(send.data.wrong)} wrong; nothing was changed yet.`}
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
        {sure && <Typography role="alert">What you gave is not imported. Press Close once more to discard it.</Typography>}
      </DialogContent>
      <DialogActions>
        <Button onClick={() => (sure ? close() : leave())}>Close</Button>
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

/** mapping reads lines of OURS=THEIRS. */
export function mapping(text: string): Record<string, string> {
  const pairs = text.split('\n').map((line) => line.split('=').map((t) => t.trim()))
  return Object.fromEntries(pairs.filter((p): p is [string, string] => p.length === 2 && p.every(Boolean)))
}
