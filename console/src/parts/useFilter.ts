import { useSearchParams } from 'react-router'

/** useFilter keeps a list's filter in the address, so that it can be shared. */
export function useFilter(...names: string[]) {
  const [search, setSearch] = useSearchParams()
  const filter: Record<string, string> = {}
  for (const name of names) {
    const value = search.get(name)
    if (value) filter[name] = value
  }
  const set = (name: string, value: string) =>
    setSearch(
      (old) => {
        const next = new URLSearchParams(old)
        if (value) next.set(name, value)
        else next.delete(name)
        return next
      },
      { replace: true },
    )
  return [filter, set] as const
}
