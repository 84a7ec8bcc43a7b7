import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import Typography from '@mui/material/Typography'
import { useRef, useState, type DragEvent } from 'react'
import { sendPile } from '../api/client'
import { useChange } from '../api/queries'
import { useMay } from './May'
import { Panel, Quiet } from './Panel'
import { Problem } from './Problem'
import { Account } from './Account'
import { AsCommand } from './AsCommand'
import { command, flags } from './command'

/** DropZone takes whatever the signer sent back and tells what became of each file. */
export function DropZone() {
  const [over, setOver] = useState(false)
  const [trust, setTrust] = useState(false)
  const [keys, setKeys] = useState(false)
  const input = useRef<HTMLInputElement>(null)
  const admin = useMay('admin')
  const send = useChange({ of: 'unmatched', do: (files: File[]) => sendPile(files, trust, keys) })
  const give = (list: FileList | null) => {
    if (list?.length) send.mutate([...list])
    if (input.current) input.current.value = '' // the same file may be given again
  }
  const drop = (e: DragEvent) => {
    e.preventDefault()
    setOver(false)
    give(e.dataTransfer.files)
  }
  return (
    <Panel title="Intake" term="intake">
      <Box
        onDragOver={(e) => {
          e.preventDefault()
          setOver(true)
        }}
        onDragLeave={() => setOver(false)}
        onDrop={drop}
        sx={{
          border: '2px dashed',
          borderColor: over ? 'primary.main' : 'line',
          borderRadius: 1,
          p: 3,
          textAlign: 'center',
          display: 'grid',
          gap: 1,
          justifyItems: 'center',
        }}
      >
        <Typography>Drop the files from the signer here: any format, any order.</Typography>
        <Button variant="outlined" onClick={() => input.current?.click()} disabled={send.isPending}>
          {send.isPending ? 'Sorting…' : 'Choose files'}
        </Button>
        <input ref={input} id="pile" type="file" multiple hidden onChange={(e) => give(e.target.files)} />
        {admin ? (
          <FormControlLabel
            control={<Checkbox size="small" checked={trust} onChange={(e) => setTrust(e.target.checked)} />}
            label="Trust the roots among them"
          />
        ) : (
          <Quiet>Trusting roots among them needs the role admin.</Quiet>
        )}
        <FormControlLabel
          control={<Checkbox size="small" checked={keys} onChange={(e) => setKeys(e.target.checked)} />}
          label="Import the private keys among them, for devices that are given their key"
        />
      </Box>
      <AsCommand command={command('intake', 'FILE', ...flags({ 'trust-roots': trust, key: keys }))} />
      {send.error && <Problem error={send.error} />}
      {send.data && <Account intake={send.data} />}
    </Panel>
  )
}
