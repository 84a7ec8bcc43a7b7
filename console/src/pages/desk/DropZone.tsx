import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import Link from '@mui/material/Link'
import Typography from '@mui/material/Typography'
import { useMutation } from '@tanstack/react-query'
import { useRef, useState, type DragEvent } from 'react'
import { Link as RouterLink } from 'react-router'
import type { Schemas } from '../../api/client'
import { sendPile } from '../../api/intake'
import { queryClient } from '../../api/queries'
import { Chain } from '../../parts/Chain'
import { Findings } from '../../parts/Findings'
import { Panel } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'

/** DropZone takes whatever the signer sent back and tells what became of each file. */
export function DropZone() {
  const [over, setOver] = useState(false)
  const [trust, setTrust] = useState(false)
  const input = useRef<HTMLInputElement>(null)
  const send = useMutation({ mutationFn: (files: File[]) => sendPile(files, trust), onSuccess: () => queryClient.invalidateQueries() })
  const give = (list: FileList | null) => {
    if (list?.length) send.mutate([...list])
  }
  const drop = (e: DragEvent) => {
    e.preventDefault()
    setOver(false)
    give(e.dataTransfer.files)
  }
  return (
    <Panel title="What came back">
      <Box
        onDragOver={(e) => {
          e.preventDefault()
          setOver(true)
        }}
        onDragLeave={() => setOver(false)}
        onDrop={drop}
        sx={{ border: '2px dashed', borderColor: over ? 'primary.main' : 'line', borderRadius: 1, p: 3, textAlign: 'center', display: 'grid', gap: 1, justifyItems: 'center' }}
      >
        <Typography>Drop the files here: any names, any order, everything the signer sent.</Typography>
        <Button variant="outlined" onClick={() => input.current?.click()} disabled={send.isPending}>
          {send.isPending ? 'Sorting…' : 'Choose files'}
        </Button>
        <input ref={input} id="pile" type="file" multiple hidden onChange={(e) => give(e.target.files)} />
        <FormControlLabel control={<Checkbox size="small" checked={trust} onChange={(e) => setTrust(e.target.checked)} />} label="Trust the roots among them from now on" />
      </Box>
      {send.error && <Problem error={send.error} />}
      {send.data && <Account intake={send.data} />}
    </Panel>
  )
}

function Account({ intake }: { intake: Schemas['Intake'] }) {
  return (
    <Box aria-label="Account of the files" sx={{ mt: 2, display: 'grid', gap: 2 }}>
      <Box>
        {intake.files.map((f) => (
          <Box key={f.name} sx={{ py: 0.5, borderBottom: 1, borderColor: 'divider' }}>
            <strong>{f.name}</strong>
            {f.holds.map((h, i) => (
              <Typography key={i} variant="body2" sx={{ color: h.kind === 'junk' || h.kind === 'key' ? 'error.main' : 'text.secondary', overflowWrap: 'anywhere' }}>
                {h.kind}: {h.subject} {h.note}
              </Typography>
            ))}
          </Box>
        ))}
      </Box>
      {intake.answers.length === 0 && <Typography>No leaf is among them, so no request is answered. Intermediates are kept for when it comes.</Typography>}
      {intake.answers.map((a) => (
        <Box key={a.sha256} data-accepted={a.accepted} sx={{ borderLeft: 3, borderColor: a.accepted ? 'success.main' : 'error.main', pl: 1.5 }}>
          <Typography sx={{ fontWeight: 600 }}>
            {a.leaf}
            {a.replacement && (
              <>
                {' → '}
                <Link component={RouterLink} to={`/replacements/${a.replacement}`}>
                  {a.replacement} {a.device}/{a.slot}
                </Link>
              </>
            )}
          </Typography>
          {a.accepted ? (
            <Typography sx={{ color: 'success.main' }}>✓ accepted; it goes on by itself</Typography>
          ) : (
            <>
              <Typography sx={{ color: 'error.main' }}>✕ not accepted: {a.why}</Typography>
              <Typography>
                <strong>Next:</strong> {a.next}
              </Typography>
            </>
          )}
          {a.chain.length > 0 && <Chain links={a.chain.map((l) => ({ ...l, served: true }))} incomplete={a.findings.find((f) => f.code === 'chain-incomplete')?.what} />}
          {a.accepted && a.findings.length > 0 && <Findings found={a.findings} />}
        </Box>
      ))}
    </Box>
  )
}
