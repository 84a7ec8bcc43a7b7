import type { ReactNode } from 'react'

/** Column is a column of a list. */
export type Column<T> = {
  field: string // its name in the address, and for the service where it sorts by it
  title: string
  cell: (row: T) => ReactNode
  sorts?: boolean | string // by its field, or by the order that is named
  always?: boolean // cannot be hidden
  wide?: boolean // takes the room that is left
  narrow?: boolean // stays on a narrow screen
  extra?: boolean // hidden until the user asks for it
}

const place = (list: string) => `freshseal.columns.${list}`

/** hiddenColumns are those that the user has hidden in a list, in this browser; at first, the extra ones. */
export function hiddenColumns<T>(list: string, columns: Column<T>[]): string[] {
  const extra = columns.filter((c) => c.extra).map((c) => c.field)
  try {
    const kept: unknown = JSON.parse(window.localStorage.getItem(place(list)) ?? 'null')
    return Array.isArray(kept) ? kept.filter((f): f is string => typeof f === 'string') : extra
  } catch {
    return extra
  }
}

/** orderOfColumn is the order by which a column sorts; undefined: it does not. */
export const orderOfColumn = <T>(c: Column<T>) => (c.sorts === true ? c.field : c.sorts || undefined)

export function hideColumns(list: string, fields: string[]) {
  try {
    window.localStorage.setItem(place(list), JSON.stringify(fields))
  } catch {
    // a browser may refuse to keep anything: it holds until the page is left
  }
}
