import { number } from '../words'

/** From is where a page begins: behind a cursor, or behind so many rows. */
export type From = { cursor?: string; skip?: string }

/**
 * Cursors knows where the pages of a list begin. A page after one that was shown begins behind that one, whatever
 * came before it since; to a page that somebody else's address names, or to the last, the rows are counted.
 */
export class Cursors {
  private known = new Map<number, string>()

  constructor(private size: number) {}

  /** learn keeps the cursor behind a page. */
  learn(page: number, next: string | undefined) {
    if (next) this.known.set(page + 1, next)
  }

  /** of says where a page begins. */
  of(page: number): From {
    const cursor = this.known.get(page)
    if (cursor) return { cursor }
    return page > 1 ? { skip: String((page - 1) * this.size) } : {}
  }
}

/** shown says which rows of how many a page has: "51 to 100 of 5,001". */
export function shown(page: number, size: number, rows: number, total: number | undefined) {
  if (rows === 0) return total ? `none of ${number(total)} on this page` : ''
  const from = (page - 1) * size + 1
  return `${number(from)} to ${number(from + rows - 1)}${total === undefined ? '' : ` of ${number(total)}`}`
}
