import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogTitle from '@mui/material/DialogTitle'

/** Confirm asks before something that cannot be undone. */
export function Confirm({ question, yes, act, close }: { question: string; yes: string; act: () => void; close: () => void }) {
  return (
    <Dialog open onClose={close}>
      <DialogTitle>{question}</DialogTitle>
      <DialogActions>
        <Button onClick={close} autoFocus>
          No
        </Button>
        <Button
          variant="contained"
          color="error"
          onClick={() => {
            close()
            act()
          }}
        >
          {yes}
        </Button>
      </DialogActions>
    </Dialog>
  )
}
