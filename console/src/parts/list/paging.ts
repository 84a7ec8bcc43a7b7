/** The most rows that the service gives at once. */
const most = 1000

type Page = { items: unknown[]; next?: string }
type Load = (wanted: { limit: string; cursor?: string }) => Promise<Page>

/** Cursors finds the cursor of a page of a list. A page after one that was shown is known at once; to a page that somebody else's address names, or to the last, the way is walked in long steps. */
export class Cursors {
  private known = new Map<number, string>([[1, '']])

  constructor(
    private load: Load,
    private size: number,
  ) {}

  /** learn keeps the cursor behind a page. */
  learn(page: number, next: string | undefined) {
    if (next) this.known.set(page + 1, next)
  }

  /** of gives the cursor of a page; undefined: the list is not that long. */
  async of(page: number): Promise<string | undefined> {
    let at = Math.max(...[...this.known.keys()].filter((p) => p <= page))
    while (at < page) {
      const pages = Math.min(page - at, Math.floor(most / this.size))
      const cursor = this.known.get(at) ?? ''
      const step = await this.load({ limit: String(pages * this.size), ...(cursor && { cursor }) })
      if (!step.next) return undefined
      at += pages
      this.known.set(at, step.next)
    }
    return this.known.get(at)
  }
}

/** shown says which rows of how many a page has: "51 to 100 of 5,001". */
export function shown(page: number, size: number, rows: number, total: number | undefined) {
  if (rows === 0) return total ? `none of ${count(total)} on this page` : ''
  const from = (page - 1) * size + 1
  return `${count(from)} to ${count(from + rows - 1)}${total === undefined ? '' : ` of ${count(total)}`}`
}

const thousands = new Intl.NumberFormat('en')

export const count = (n: number) => thousands.format(n)
