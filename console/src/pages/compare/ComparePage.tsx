import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useSearchParams } from 'react-router'
import { certificateQuery, slotQuery } from '../../api/queries'
import { Compare } from '../../parts/Compare'
import { Heading } from '../../parts/Heading'
import { Panel, Quiet, Stack } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'

/**
 * ComparePage compares any two certificates, each named by its SHA-256 or by the slot that serves it. Both are part of
 * the address.
 */
export function ComparePage() {
  const [search, setSearch] = useSearchParams()
  const a = search.get('a') ?? ''
  const b = search.get('b') ?? ''
  const left = useLeaf(a)
  const right = useLeaf(b)
  return (
    <Stack>
      <Heading
        title="Compare certificates"
        tab="Compare certificates"
        below={<Quiet>A SHA-256, or DEVICE/SLOT for the certificate that a slot serves.</Quiet>}
      />
      <Two key={`${a} ${b}`} a={a} b={b} set={(x, y) => setSearch({ ...(x && { a: x }), ...(y && { b: y }) })} />
      {left.error && <Problem error={left.error} />}
      {right.error && <Problem error={right.error} />}
      {(left.sha256 || right.sha256) && (
        <Panel title="Side by side">
          <Compare
            left={{ title: a.includes('/') ? a : 'First', sha256: left.sha256, none: 'choose one' }}
            right={{ title: b.includes('/') ? b : 'Second', sha256: right.sha256, none: 'choose one' }}
          />
        </Panel>
      )}
    </Stack>
  )
}

function Two({ a, b, set }: { a: string; b: string; set: (a: string, b: string) => void }) {
  const [first, setFirst] = useState(a)
  const [second, setSecond] = useState(b)
  return (
    <Box
      component="form"
      onSubmit={(e) => {
        e.preventDefault()
        set(bare(first), bare(second))
      }}
      sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, alignItems: 'center' }}
    >
      <TextField
        id="compare-a"
        size="small"
        label="First"
        value={first}
        onChange={(e) => setFirst(e.target.value)}
        sx={{ flexGrow: 1, minWidth: 240 }}
      />
      <TextField
        id="compare-b"
        size="small"
        label="Second"
        value={second}
        onChange={(e) => setSecond(e.target.value)}
        sx={{ flexGrow: 1, minWidth: 240 }}
      />
      <Button type="submit" variant="contained">
        Compare
      </Button>
    </Box>
  )
}

/** bare is a fingerprint without colons and blanks, and a slot as it is. */
function bare(text: string) {
  const plain = text.replace(/[\s:]/g, '')
  return text.includes('/') ? text.trim() : plain.toLowerCase()
}

/** useLeaf finds the certificate that a text names. */
function useLeaf(text: string): { sha256: string; error?: Error | null } {
  const [device = '', slot = ''] = text.includes('/') ? text.split('/', 2) : []
  const served = useQuery({ ...slotQuery(device, slot), enabled: device !== '' && slot !== '' })
  const known = useQuery({ ...certificateQuery(text), enabled: text !== '' && device === '' })
  if (device) return { sha256: served.data?.certificate?.sha256 ?? '', error: served.error }
  return { sha256: known.data ? text : '', error: known.error }
}
