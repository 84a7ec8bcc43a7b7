import Button from '@mui/material/Button'
import Divider from '@mui/material/Divider'
import Menu from '@mui/material/Menu'
import MenuItem from '@mui/material/MenuItem'
import { useState } from 'react'
import { sizes, useRows, wantRows } from './rows'

/** RowChoice sets how many rows a page of every list has, and whether rows are compact. */
export function RowChoice() {
  const [at, setAt] = useState<HTMLElement | null>(null)
  const rows = useRows()
  return (
    <>
      <Button size="small" color="inherit" aria-haspopup="menu" onClick={(e) => setAt(e.currentTarget)}>
        Rows
      </Button>
      <Menu anchorEl={at} open={at !== null} onClose={() => setAt(null)}>
        {sizes.map((size) => (
          <MenuItem
            key={size}
            dense
            role="menuitemradio"
            aria-checked={rows.size === size}
            selected={rows.size === size}
            onClick={() => {
              wantRows({ ...rows, size })
              setAt(null)
            }}
          >
            {size} rows per page
          </MenuItem>
        ))}
        <Divider />
        <MenuItem
          dense
          role="menuitemcheckbox"
          aria-checked={rows.compact}
          onClick={() => {
            wantRows({ ...rows, compact: !rows.compact })
            setAt(null)
          }}
        >
          {rows.compact ? '✓ ' : ''}Compact rows
        </MenuItem>
      </Menu>
    </>
  )
}
