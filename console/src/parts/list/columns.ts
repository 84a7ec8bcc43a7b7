import type { ReactNode } from 'react'

/** Column is a column of a list. */
export type Column<T> = {
  field: string // its name in the address, and for the service where it sorts by it
  title: string
  cell: (row: T) => ReactNode
  sorts?: boolean
  always?: boolean // cannot be hidden
  wide?: boolean // takes the room that is left
  narrow?: boolean // stays on a narrow screen
}

const place = (list: string) => `freshseal.columns.${list}`

/** hiddenColumns are those that the user has hidden in a list, in this browser. */
export function hiddenColumns(list: string): string[] {
  try {
    const kept: unknown = JSON.parse(window.localStorage.getItem(place(list)) ?? '[]')
    return Array.isArray(kept) ? kept.filter((f): f is string => typeof f === 'string') : []
  } catch {
    return []
  }
}

export function hideColumns(list: string, fields: string[]) {
  window.localStorage.setItem(place(list), JSON.stringify(fields))
}
