/** Choice is which rows are chosen: some by name, over all pages, or all that fit the filter. */
export type Choice = { all: boolean; names: ReadonlySet<string> }

export const none: Choice = { all: false, names: new Set() }

/** chosen says how many are chosen. */
export const chosen = (c: Choice, total: number | undefined) => (c.all ? (total ?? 0) : c.names.size)
