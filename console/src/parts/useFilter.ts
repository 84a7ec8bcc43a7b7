import { useSearchParams } from 'react-router'
import type { Filter } from '../api/lists'

/** useFilter keeps a list's filter in the address, so that it can be shared; another filter begins at page one. */
export function useFilter(...names: string[]) {
  const [search, setSearch] = useSearchParams()
  const filter: Filter = {}
  for (const name of names) {
    const value = search.get(name)
    if (value) filter[name] = value
  }
  const set = (change: Filter) => setSearch((old) => narrowed(old, change), { replace: true })
  return [filter, set] as const
}

/** narrowed is an address with some values set, or taken away where they are empty. */
export function narrowed(old: URLSearchParams, change: Filter) {
  const next = new URLSearchParams(old)
  for (const [name, value] of Object.entries(change)) {
    if (value) next.set(name, value)
    else next.delete(name)
  }
  next.delete('page')
  return next
}
