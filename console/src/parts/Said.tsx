import Snackbar from '@mui/material/Snackbar'
import { useState } from 'react'
import { useNotice } from './notice'

/** Said tells in passing that something was done, and to those who cannot see it too. */
export function Said() {
  const { text, n } = useNotice()
  const [closed, setClosed] = useState(0)
  return (
    <Snackbar
      key={n}
      open={text !== '' && n !== closed}
      autoHideDuration={4_000}
      onClose={(_, why) => why === 'timeout' && setClosed(n)}
      message={text}
      slotProps={{ content: { role: 'status' } }}
    />
  )
}
