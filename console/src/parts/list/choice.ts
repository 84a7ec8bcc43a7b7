/** Choice is which rows are chosen: some by name, over all pages, or all that fit the filter. */
export type Choice = { all: boolean; names: ReadonlySet<string> }

export const none: Choice = { all: false, names: new Set() }

/** toggled chooses a row, or no longer. Of all that fit, leaving one out leaves those on the page. */
export function toggled(c: Choice, name: string, onPage: string[]): Choice {
  const names = new Set(c.all ? onPage : c.names)
  if (!names.delete(name)) names.add(name)
  return { all: false, names }
}

/** pageToggled chooses all rows of a page beside what is chosen, or none of them. */
export function pageToggled(c: Choice, onPage: string[]): Choice {
  if (c.all) return none
  const names = new Set(c.names)
  const whole = onPage.every((name) => names.has(name))
  for (const name of onPage) {
    if (whole) names.delete(name)
    else names.add(name)
  }
  return { all: false, names }
}

/** chosen says how many are chosen. */
export const chosen = (c: Choice, total: number | undefined) => (c.all ? (total ?? 0) : c.names.size)
