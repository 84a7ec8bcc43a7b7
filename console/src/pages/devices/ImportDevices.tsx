import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import LinearProgress from '@mui/material/LinearProgress'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation } from '@tanstack/react-query'
import { useMemo, useRef, useState } from 'react'
import { Link as RouterLink } from 'react-router'
import { api, take } from '../../api/client'
import { stale } from '../../api/queries'
import { mono } from '../../app/theme'
import { Foreign } from '../../parts/Foreign'
import { Problem } from '../../parts/Problem'
import { VirtualRows } from '../../parts/VirtualRows'
import { number, some } from '../../parts/words'
import { AsCommand } from '../../parts/AsCommand'
import { command, options } from '../../parts/command'

/** ImportDevices makes the inventory what a file says, after it was shown what would be done. */
export function ImportDevices({ close }: { close: () => void }) {
  const file = useRef<HTMLInputElement>(null)
  const [pasted, setPasted] = useState('')
  const [chosen, setChosen] = useState<{ name: string; csv?: string; xlsx?: string } | null>(null)
  const [columns, setColumns] = useState('')
  const [sure, setSure] = useState(false)
  const csv = chosen?.csv ?? pasted
  const xlsx = chosen?.xlsx
  const send = useMutation({
    mutationFn: ({ dry, partial }: { dry: boolean; partial: boolean }) =>
      take(
        api.POST('/api/v1/imports', {
          body: { ...(xlsx ? { xlsx } : { csv }), columns: mapping(columns), partial, dry_run: dry },
        }),
      ),
    onSuccess: (done) => done.done && stale('devices'),
  })
  const adds = send.data?.lines.filter((l) => l.what === 'add').length ?? 0
  const changes = send.data?.lines.filter((l) => l.what === 'change') ?? []
  const wrong = send.data?.lines.filter((l) => l.what === 'error') ?? []
  const given = csv !== '' || xlsx !== undefined
  const written = useMemo(() => csv.trimEnd().split(/\r?\n/), [csv]) // the header is line 1
  const lines = Math.max(0, written.length - 1)
  const read = async (file: File) => {
    const bytes = new Uint8Array(await file.arrayBuffer())
    const zipped = bytes[0] === 0x50 && bytes[1] === 0x4b // a workbook is a zip archive
    setChosen({ name: file.name, ...(zipped ? { xlsx: base64(bytes) } : { csv: new TextDecoder().decode(bytes) }) })
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
            const file = e.target.files?.[0]
            e.target.value = '' // the same file may be chosen again
            if (file) void read(file)
          }}
        />
        {chosen ? (
          <Box sx={{ display: 'flex', gap: 1, alignItems: 'center' }}>
            <Typography>
              <Foreign>{chosen.name}</Foreign>
              {chosen.csv !== undefined && `, ${some(lines, 'line')}`}
            </Typography>
            <Button
              size="small"
              onClick={() => {
                send.reset()
                setChosen(null)
              }}
            >
              Remove the file
            </Button>
          </Box>
        ) : (
          <TextField
            id="import-text"
            label="Or paste it"
            multiline
            rows={6}
            value={pasted}
            onChange={(e) => {
              send.reset()
              setPasted(e.target.value)
            }}
          />
        )}
        <TextField
          id="import-columns"
          label="Column mapping: name=Hostname, one per line"
          multiline
          minRows={1}
          value={columns}
          onChange={(e) => setColumns(e.target.value)}
        />
        <AsCommand
          command={command(
            ...['device', 'import', chosen?.name ?? 'FILE', '--dry-run'],
            ...options(
              'column',
              columns.split('\n').filter((line) => line.trim() !== ''),
            ),
          )}
        />
        {send.isPending && (
          <Box role="status">
            <Typography>
              {xlsx ? 'The workbook is' : `${number(lines)} lines are`} read and checked; all is done at once.
            </Typography>
            <LinearProgress aria-label="Import" />
          </Box>
        )}
        {send.error && <Problem error={send.error} />}
        {send.data && (
          <Box role="group" aria-label="Account of the import">
            <Typography role="status" sx={{ fontWeight: 600 }}>
              {send.data.done
                ? `${number(send.data.added)} added, ${number(send.data.changed)} changed.`
                : `${number(adds)} to add, ${number(changes.length)} to change, ${number(send.data.wrong)} invalid; nothing was changed yet.`}
            </Typography>
            {wrong.length > 0 && (
              <VirtualRows
                about="Invalid lines"
                items={wrong}
                row={(l) => (
                  <Box sx={{ py: 0.5 }}>
                    <Box sx={{ fontFamily: mono, fontSize: 12, overflowWrap: 'anywhere' }}>
                      {l.line}: <Foreign>{(xlsx ? l.device : (written[l.line - 1] ?? l.device)).slice(0, 300)}</Foreign>
                    </Box>
                    <Typography variant="body2" sx={{ color: 'error.main' }}>
                      {l.why}; {l.next}
                    </Typography>
                  </Box>
                )}
              />
            )}
            {!send.data.done && wrong.length > 0 && adds + changes.length > 0 && (
              <Button disabled={send.isPending} onClick={() => send.mutate({ dry: false, partial: true })}>
                Import the {some(adds + changes.length, 'valid device')} only
              </Button>
            )}
            {changes.length > 0 && (
              <VirtualRows
                about="Devices that change"
                items={changes}
                row={(l) => (
                  <Typography variant="body2">
                    line {l.line}, {l.device}:{' '}
                    {l.changes?.map((d) => `${d.what} ${d.from || 'empty'} → ${d.to || 'empty'}`).join('; ')}
                  </Typography>
                )}
              />
            )}
          </Box>
        )}
        {sure && (
          <Typography role="alert">
            Your file or text has not been imported. Press Close again to discard it.
          </Typography>
        )}
      </DialogContent>
      <DialogActions>
        <Button onClick={() => (sure ? close() : leave())}>Close</Button>
        <Button disabled={!given || send.isPending} onClick={() => send.mutate({ dry: true, partial: false })}>
          See what it would do
        </Button>
        <Button
          variant="contained"
          disabled={!given || send.isPending || send.data?.done}
          onClick={() => send.mutate({ dry: false, partial: false })}
        >
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
