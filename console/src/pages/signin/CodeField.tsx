import TextField from '@mui/material/TextField'
import { useState } from 'react'
import { needsCode } from './needsCode'

/** CodeField asks for the code of an authenticator, once the service has asked for it. */
export function CodeField({ error, code, set }: { error: unknown; code: string; set: (code: string) => void }) {
  const [asked, setAsked] = useState(false)
  if (needsCode(error) && !asked) setAsked(true)
  if (!asked) return null
  return (
    <TextField
      id="code"
      label="Code of your authenticator"
      value={code}
      onChange={(e) => set(e.target.value)}
      helperText="Or one of your recovery codes."
      autoComplete="one-time-code"
      slotProps={{ htmlInput: { inputMode: 'text', spellCheck: false } }}
      autoFocus
      required
      size="small"
    />
  )
}
