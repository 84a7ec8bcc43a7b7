import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import Menu from '@mui/material/Menu'
import MenuItem from '@mui/material/MenuItem'
import { useState } from 'react'

type Named = { field: string; title: string; always?: boolean }

/** ColumnChoice lets columns be hidden. */
export function ColumnChoice({
  columns,
  hidden,
  hide,
}: {
  columns: Named[]
  hidden: string[]
  hide: (fields: string[]) => void
}) {
  const [at, setAt] = useState<HTMLElement | null>(null)
  return (
    <>
      <Button size="small" color="inherit" aria-haspopup="menu" onClick={(e) => setAt(e.currentTarget)}>
        Columns
      </Button>
      <Menu anchorEl={at} open={at !== null} onClose={() => setAt(null)}>
        {columns
          .filter((c) => !c.always)
          .map((c) => {
            const on = !hidden.includes(c.field)
            return (
              <MenuItem
                key={c.field}
                dense
                role="menuitemcheckbox"
                aria-checked={on}
                onClick={() => hide(on ? [...hidden, c.field] : hidden.filter((f) => f !== c.field))}
              >
                <Checkbox
                  size="small"
                  checked={on}
                  tabIndex={-1}
                  disableRipple
                  slotProps={{ input: { 'aria-hidden': true, tabIndex: -1 } }}
                  sx={{ p: 0, mr: 1 }}
                />
                {c.title}
              </MenuItem>
            )
          })}
      </Menu>
    </>
  )
}
