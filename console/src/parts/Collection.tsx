import Button from '@mui/material/Button'
import type { UseQueryResult } from '@tanstack/react-query'
import { Fragment, useState, type ReactNode } from 'react'
import { Loaded } from './Loaded'
import { May } from './May'
import { Panel, Quiet } from './Panel'
import type { TermName } from './Explanation'

type Props<T> = {
  title: string
  term?: TermName
  what: string // "Changing sites": what admins may
  add: string
  query: UseQueryResult<T[]>
  none?: string // what is said where there is none
  row: (one: T, edit: () => void) => ReactNode
  form: (was: T | undefined, close: () => void) => ReactNode
}

/** Collection is a panel of things with names, to which new ones are added and of which each is edited in a form. */
export function Collection<T extends { name: string }>({ title, term, what, add, query, none, row, form }: Props<T>) {
  const [editing, setEditing] = useState<T | 'new'>()
  return (
    <Panel
      title={title}
      term={term}
      action={
        <May role="admin" what={what}>
          <Button size="small" variant="outlined" onClick={() => setEditing('new')}>
            {add}
          </Button>
        </May>
      }
    >
      <Loaded query={query}>
        {(list) => (
          <>
            {list.length === 0 && none && <Quiet>{none}</Quiet>}
            {list.map((one) => (
              <Fragment key={one.name}>{row(one, () => setEditing(one))}</Fragment>
            ))}
          </>
        )}
      </Loaded>
      {editing && form(editing === 'new' ? undefined : editing, () => setEditing(undefined))}
    </Panel>
  )
}
