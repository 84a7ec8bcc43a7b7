import Button from '@mui/material/Button'
import Divider from '@mui/material/Divider'
import ListItemText from '@mui/material/ListItemText'
import Menu from '@mui/material/Menu'
import MenuItem from '@mui/material/MenuItem'
import { useQuery } from '@tanstack/react-query'
import { Suspense, lazy, useState } from 'react'
import { useNavigate, useSearchParams } from 'react-router'
import { chunk } from '../../api/chunk'
import { api, take } from '../../api/client'
import { useChange, viewsQuery } from '../../api/queries'

const SaveView = lazy(async () => ({ default: (await chunk(import('./SaveView'))).SaveView }))

/** Views keeps the filter and order of a list under a name, for the user alone. */
export function Views({ page }: { page: string }) {
  const [at, setAt] = useState<HTMLElement | null>(null)
  const [naming, setNaming] = useState(false)
  const all = (useQuery(viewsQuery).data ?? []).filter((x) => x.page === page)
  const [search] = useSearchParams()
  const navigate = useNavigate()
  const here = new URLSearchParams(search)
  here.delete('page')
  const now = here.toString()
  const remove = useChange({
    of: 'views',
    do: (name: string) => take(api.DELETE('/api/v1/views/{page}/{name}', { params: { path: { page, name } } })),
  })
  const current = all.find((x) => x.query === now)
  return (
    <>
      <Button
        size="small"
        color="inherit"
        variant="outlined"
        aria-haspopup="menu"
        onClick={(e) => setAt(e.currentTarget)}
      >
        {current ? `View: ${current.name}` : 'Views'}
      </Button>
      <Menu anchorEl={at} open={at !== null} onClose={() => setAt(null)}>
        {all.map((x) => (
          <MenuItem
            key={x.name}
            selected={x === current}
            onClick={() => {
              setAt(null)
              void navigate(`/${page}?${x.query}`)
            }}
          >
            <ListItemText>
              <bdi>{x.name}</bdi>
            </ListItemText>
          </MenuItem>
        ))}
        {all.length > 0 && <Divider />}
        <MenuItem
          disabled={now === ''}
          onClick={() => {
            setAt(null)
            setNaming(true)
          }}
        >
          {now === '' ? 'Filter or sort the list to save a view' : 'Save this view…'}
        </MenuItem>
        {current && (
          <MenuItem
            onClick={() => {
              setAt(null)
              remove.mutate(current.name)
            }}
          >
            Remove “{current.name}”
          </MenuItem>
        )}
      </Menu>
      {naming && (
        <Suspense>
          <SaveView page={page} query={now} close={() => setNaming(false)} />
        </Suspense>
      )}
    </>
  )
}
