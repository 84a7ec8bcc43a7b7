import type { ServedList } from '../../api/lists'
import { ahead } from '../../api/queries'
import { filterOf, listQuery, orderOf } from './query'

/** beforehand asks for the first page of a list while the code that shows it is still on its way. */
export function beforehand<T>(list: ServedList<T>, search: URLSearchParams) {
  if (search.get('page')) return // the way to it is walked by the list
  ahead(listQuery(list, filterOf(search, list.filters), orderOf(search), 1, () => ({})))
}
