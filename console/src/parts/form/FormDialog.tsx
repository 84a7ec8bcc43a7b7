import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import { useId, useRef, useState, type ReactNode } from 'react'
import type { FieldValues } from 'react-hook-form'
import { Form, type FormProps } from './Form'

type Props<T extends FieldValues, Out> = Omit<FormProps<T, Out>, 'id' | 'layout' | 'buttons' | 'onDirty'> & {
  title: ReactNode
  close: () => void
  wide?: boolean
}

/**
 * FormDialog is a form in a dialog. What was typed in it is thrown away by a button alone, never by a click beside it
 * or by Escape.
 */
export function FormDialog<T extends FieldValues, Out>({ title, close, wide, done, ...form }: Props<T, Out>) {
  const id = useId()
  const [dirty, setDirty] = useState(false)
  const [sure, setSure] = useState(false)
  const from = useRef<HTMLElement | null>(null) // where the user was typing
  const leave = () => {
    if (!dirty) {
      close()
      return
    }
    from.current = document.activeElement instanceof HTMLElement ? document.activeElement : null
    setSure(true)
  }
  const stay = () => {
    setSure(false)
    from.current?.focus()
  }
  return (
    <Dialog open onClose={leave} fullWidth maxWidth={wide ? 'md' : 'sm'} aria-labelledby={`${id}-title`}>
      <DialogTitle id={`${id}-title`}>{title}</DialogTitle>
      <Form
        {...form}
        id={id}
        onDirty={setDirty}
        done={(out) => {
          done?.(out)
          close()
        }}
        layout={(fields, submit) => (
          <>
            <DialogContent>
              <Box sx={{ pt: 1 }}>{fields}</Box>
              {sure && (
                <Alert
                  severity="warning"
                  variant="outlined"
                  sx={{ mt: 2 }}
                  action={
                    <>
                      <Button color="inherit" onClick={stay} autoFocus>
                        Keep typing
                      </Button>
                      <Button color="error" onClick={close}>
                        Discard
                      </Button>
                    </>
                  }
                >
                  What you typed is not saved.
                </Alert>
              )}
            </DialogContent>
            <DialogActions>
              <Button onClick={leave}>Close</Button>
              {submit}
            </DialogActions>
          </>
        )}
      />
    </Dialog>
  )
}
