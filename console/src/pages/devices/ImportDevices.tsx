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
import { Link as RouterLink } from 'react-router'
import { api, take } from '../../api/client'
import { stale } from '../../api/queries'
import { count } from '../../parts/list/paging'
import { Problem } from '../../parts/Problem'

/** ImportDevices makes the inventory what a file says, after it was shown what would be done. */
export function ImportDevices({ close }: { close: () => void }) {
  const file = useRef<HTMLInputElement>(null)
  const [csv, setCsv] = useState('')
  const [book, setBook] = useState<{ name: string; xlsx: string } | null>(null)
  const [columns, setColumns] = useState('')
  const [partial, setPartial] = useState(false)
  const [sure, setSure] = useState(false)
  const send = useMutation({
    mutationFn: (dry: boolean) =>
      take(
        api.POST('/api/v1/imports', {
          body: { ...(book ? { xlsx: book.xlsx } : { csv }), columns: mapping(columns), partial, dry_run: dry },
        }),
      ),
    onSuccess: (done) => done.done && stale('devices'),
  })
  const adds = send.data?.lines.filter((l) => l.what === 'add').length ?? 0
  const changes = send.data?.lines.filter((l) => l.what === 'change') ?? []
  const given = csv !== '' || book !== null
  const lines = Math.max(0, csv.trimEnd().split('\n').length - 1)
  const read = async (file: File) => {
    const bytes = new Uint8Array(await file.arrayBuffer())
    const zipped = bytes[0] === 0x50 && bytes[1] === 0x4b // a workbook is a zip archive
    setBook(zipped ? { name: file.name, xlsx: base64(bytes) } : null)
    setCsv(zipped ? '' : new TextDecoder().decode(bytes))
  }
  const leave = () => (given && !send.data?.done ? setSure(true) : close())
  return (
    <Dialog open onClose={leave} fullWidth maxWidth="md" aria-labelledby="import-title">
      <DialogTitle id="import-title">Import devices</DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 2 }}>
        <Typography sx={{ color: 'text.secondary' }}>
          A CSV file or an Excel workbook with a header: name, address, site, family, owner, tags, notes, nodes,
          cluster, slot, port, server_name, slot_more, ssh:user, ssh:password, ssh:credential, ssh:pin, setting:NAME. An
          empty cell leaves a field as it is, and a hyphen empties it. Nothing is removed.
        </Typography>
        <Button component={RouterLink} to="/discovery" sx={{ justifySelf: 'start' }}>
          Or discover the devices of an undocumented network
        </Button>
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
            const chosen = e.target.files?.[0]
            if (chosen) void read(chosen)
          }}
        />
        {book && <Typography>{book.name}</Typography>}
        <TextField
          id="import-text"
          label="Or paste it"
          disabled={book !== null}
          multiline
          minRows={4}
          maxRows={12}
          value={csv}
          onChange={(e) => setCsv(e.target.value)}
        />
        <TextField
          id="import-columns"
          label="Column mapping: name=Hostname, one per line"
          multiline
          minRows={1}
          value={columns}
          onChange={(e) => setColumns(e.target.value)}
        />
        <FormControlLabel
          control={<Checkbox size="small" checked={partial} onChange={(e) => setPartial(e.target.checked)} />}
          label="Take the valid lines although others are invalid"
        />
        {send.isPending && (
          <Box role="status">
            <Typography>
              {book ? 'The workbook is' : `${count(lines)} lines are`} read and checked; all is done at once.
            </Typography>
            <LinearProgress aria-label="Import" />
          </Box>
        )}
        {send.error && <Problem error={send.error} />}
        {send.data && (
          <Box role="group" aria-label="Account of the import">
            <Typography role="status" sx={{ fontWeight: 600 }}>
              {send.data.done
                ? `${count(send.data.added)} added, ${count(send.data.changed)} changed.`
                : `${count(adds)} to add, ${count(changes.length)} to change, ${count(send.data.wrong)} wrong; nothing was changed yet.`}
            </Typography>
            {changes.slice(0, 50).map((l) => (
              <Typography key={l.line} variant="body2">
                line {l.line}, {l.device}:{' '}
                {l.changes?.map((d) => `${d.what} ${d.from || 'empty'} → ${d.to || 'empty'}`).join('; ')}
              </Typography>
            ))}
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
        {sure && (
          <Typography role="alert">What you gave is not imported. Press Close once more to discard it.</Typography>
        )}
      </DialogContent>
      <DialogActions>
        <Button onClick={() => (sure ? close() : leave())}>Close</Button>
        <Button disabled={!given || send.isPending} onClick={() => send.mutate(true)}>
          See what it would do
        </Button>
        <Button variant="contained" disabled={!given || send.isPending} onClick={() => send.mutate(false)}>
          Import
        </Button>
      </DialogActions>
    </Dialog>
  )
}

/** base64 is how bytes travel in JSON. */
function base64(bytes: Uint8Array): string {
  let text = ''
  for (let i = 0; i < bytes.length; i += 0x8000) text += String.fromCharCode(...bytes.subarray(i, i + 0x8000))
  return btoa(text)
}

/** mapping reads lines of OURS=THEIRS. */
export function mapping(text: string): Record<string, string> {
  const pairs = text.split('\n').map((line) => line.split('=').map((t) => t.trim()))
  return Object.fromEntries(pairs.filter((p): p is [string, string] => p.length === 2 && p.every(Boolean)))
}
