import TextField from '@mui/material/TextField'
import { useEffect, useState } from 'react'

/** TextFilter tells what is typed once the typing pauses, so that the service is asked for words and not for letters. */
export function TextFilter({ label, value, set }: { label: string; value: string; set: (text: string) => void }) {
  const [typed, setTyped] = useState(value)
  useEffect(() => {
    if (typed === value) return
    const pause = window.setTimeout(() => set(typed), 250)
    return () => window.clearTimeout(pause)
  })
  return <TextField size="small" type="search" label={label} value={typed} onChange={(e) => setTyped(e.target.value)} sx={{ width: { xs: '100%', sm: 340 } }} />
}
