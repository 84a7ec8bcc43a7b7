import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import { useState } from 'react'
import { mono } from '../app/theme'
import { say } from './notice'

/** Copy puts a text on the clipboard. */
export function Copy({ text, what, label = 'Copy' }: { text: string; what: string; label?: string }) {
  const [refused, setRefused] = useState(false)
  const copy = () =>
    navigator.clipboard.writeText(text).then(
      () => say(`Copied ${what}`),
      () => setRefused(true),
    )
  return (
    <Button
      size="small"
      color="inherit"
      variant="text"
      className="no-print"
      aria-label={`${label} ${what}`}
      onClick={() => void copy()}
      sx={{ py: 0, px: 0.75, minWidth: 0, minHeight: 24, fontSize: 12 }}
    >
      {refused ? 'The browser refuses' : label}
    </Button>
  )
}

/** Print is a fingerprint in groups of eight, to compare and to copy. */
export function Print({ text, what = 'the fingerprint' }: { text?: string | null; what?: string }) {
  if (!text) return <>–</>
  return (
    <Box component="span" sx={{ display: 'inline-flex', flexWrap: 'wrap', alignItems: 'baseline', columnGap: 0.5 }}>
      <Box component="span" data-print={text} sx={{ fontFamily: mono, fontSize: 12, overflowWrap: 'anywhere' }}>
        {/^[0-9a-f]+$/.test(text) ? (text.match(/.{1,8}/g) ?? []).join(' ') : text}
      </Box>
      <Copy text={text} what={what} />
    </Box>
  )
}
