import TextField from '@mui/material/TextField'
import { useEffect, useState } from 'react'

/**
 * TextFilter tells what is typed once the typing pauses, so that the service is asked for words and not for letters.
 */
export function TextFilter({ label, value, set }: { label: string; value: string; set: (text: string) => void }) {
  const [typed, setTyped] = useState(value)
  const [known, setKnown] = useState(value)
  if (known !== value) {
    // the address was changed by something else, such as Back
    setKnown(value)
    setTyped(value)
  }
  useEffect(() => {
    if (typed === value) return
    const pause = window.setTimeout(() => {
      setKnown(typed)
      set(typed)
    }, 60)
    return () => window.clearTimeout(pause)
  })
  return (
    <TextField
      id="filter-text"
      size="small"
      type="search"
      label={label}
      value={typed}
      onChange={(e) => setTyped(e.target.value)}
      className="no-print"
      sx={{ width: { xs: '100%', sm: 260 } }}
    />
  )
}
