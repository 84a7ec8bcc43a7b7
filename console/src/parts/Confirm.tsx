import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import { useId, type ReactNode } from 'react'
import { AsCommand } from './AsCommand'
import { Problem } from './Problem'

type Props = {
  question: string
  children?: ReactNode // what it means, and what stands on either side
  yes: string
  no?: string
  act: () => void
  close: () => void
  pending?: boolean
  error?: unknown
  wide?: boolean
  mild?: boolean // nothing is lost by it
  command?: string // that does the same
}

/**
 * Confirm asks before something that cannot be undone, and tells what it means. It stays open while it is done, and
 * when it is refused.
 */
export function Confirm({
  question,
  children,
  yes,
  no = 'Keep as it is',
  act,
  close,
  pending,
  error,
  wide,
  mild,
  command,
}: Props) {
  const id = useId()
  return (
    <Dialog open onClose={pending ? undefined : close} maxWidth={wide ? 'md' : 'sm'} fullWidth aria-labelledby={id}>
      <DialogTitle id={id}>{question}</DialogTitle>
      {(children || command || Boolean(error)) && (
        <DialogContent>
          {children}
          {command && <AsCommand command={command} />}
          {Boolean(error) && <Problem error={error} />}
        </DialogContent>
      )}
      <DialogActions>
        <Button onClick={close} disabled={pending} autoFocus>
          {no}
        </Button>
        <Button variant="contained" color={mild ? 'primary' : 'error'} disabled={pending} onClick={act}>
          {yes}
        </Button>
      </DialogActions>
    </Dialog>
  )
}
