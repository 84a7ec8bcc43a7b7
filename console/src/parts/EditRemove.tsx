import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import { useState, type ReactNode } from 'react'
import type { Noun } from '../api/keys'
import { useChange } from '../api/queries'
import { Confirm } from './Confirm'

type Props = {
  what: string // "the site Mainquay"
  of: Noun
  edit: () => void
  remove?: (() => Promise<unknown>) | false // none where nothing can be removed
  command?: string // that removes it
  before?: ReactNode // other buttons of the row
  children?: ReactNode // what a removal means
}

/**
 * EditRemove are the two buttons of a row that can be changed and mostly removed, on one line; it asks before it
 * removes.
 */
export function EditRemove({ what, of, edit, remove, command = '', before, children }: Props) {
  const [sure, setSure] = useState(false)
  const removal = useChange({ of, do: () => (remove ? remove() : Promise.resolve()), done: () => setSure(false) })
  return (
    <Box sx={{ display: 'flex', marginLeft: 'auto' }}>
      {before}
      <Button size="small" onClick={edit}>
        Edit
      </Button>
      {remove && (
        <Button size="small" color="error" onClick={() => setSure(true)}>
          Remove
        </Button>
      )}
      {sure && (
        <Confirm
          question={`Remove ${what}?`}
          yes="Remove"
          pending={removal.isPending}
          error={removal.error}
          act={() => removal.mutate()}
          close={() => setSure(false)}
          command={command}
        >
          {children}
        </Confirm>
      )}
    </Box>
  )
}
