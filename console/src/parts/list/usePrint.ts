import { useMutation } from '@tanstack/react-query'
import { useCallback, useEffect, useState } from 'react'
import type { Filter, ServedList } from '../../api/lists'
import { wantedOf, type Order } from './query'

/** mostPrinted bounds what is printed of a list: it is drawn at once. */
const mostPrinted = 5000

/** usePrint fetches the rows of a list that fit its filter, gives them to be drawn, prints, and lets them go. */
export function usePrint<T>(list: ServedList<T>, filter: Filter, order: Order) {
  const asked = JSON.stringify([list.keyed, filter, order])
  const [printed, setRows] = useState<{ asked: string; rows: T[] } | null>(null)
  const rows = printed?.asked === asked ? printed.rows : null // another list is never shown as this one
  const done = useCallback(() => setRows(null), [])
  const fetching = useMutation({
    mutationFn: async () => {
      const all: T[] = []
      for (let cursor: string | undefined; ;) {
        const page = await list.load(filter)({ limit: '1000', ...wantedOf(order), ...(cursor && { cursor }) })
        all.push(...page.items)
        cursor = page.next
        if (!cursor || all.length >= mostPrinted) return all.slice(0, mostPrinted)
      }
    },
    onSuccess: (all) => setRows({ asked, rows: all }),
  })
  useEffect(() => {
    if (!rows) return
    window.addEventListener('afterprint', done)
    window.print()
    return () => window.removeEventListener('afterprint', done)
  }, [rows, done])
  return { rows, done, fetching: fetching.isPending, error: fetching.error, print: () => fetching.mutate() }
}
