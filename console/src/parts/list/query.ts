import type { Filter, Rows, ServedList } from '../../api/lists'
import type { From } from './paging'
import { rowsWanted } from './rows'

export type Order = { sort?: string; desc?: boolean }

/** orderOf is the order that stands in an address. */
export function orderOf(search: URLSearchParams): Order {
  const sort = search.get('sort')
  return { ...(sort && { sort }), ...(search.get('desc') === 'true' && { desc: true }) }
}

/** wantedOf is an order as the service is asked for it. */
export const wantedOf = (order: Order) => ({
  ...(order.sort && { sort: order.sort }),
  ...(order.desc && { desc: 'true' as const }),
})

/** filterOf are the values in an address that narrow a list. */
export function filterOf(search: URLSearchParams, names: string[]): Filter {
  return Object.fromEntries(names.map((name) => [name, search.get(name) ?? '']).filter(([, value]) => value)) as Filter
}

/** listQuery is a page of a list, as the list itself and those who ask for it beforehand cache it. */
export function listQuery<T>(list: ServedList<T>, filter: Filter, order: Order, page: number, from: () => From) {
  const { size } = rowsWanted()
  return {
    queryKey: [...list.keyed, 'page', filter, order, size, page],
    queryFn: (): Promise<Rows<T>> =>
      list.load(filter)({ limit: String(size), count: 'true', ...wantedOf(order), ...from() }),
  }
}
