import { useSyncExternalStore } from 'react'

/** Rows is how the user wants lists, in this browser: how many rows a page has, and whether they are compact. */
export type Rows = { size: number; compact: boolean }

export const sizes = [25, 50, 100, 200]

const place = 'freshseal.rows'
const usual: Rows = { size: 50, compact: false }
const listeners = new Set<() => void>()
let known: { text: string | null; rows: Rows } = { text: null, rows: usual }

/** rowsWanted is what was chosen last, here or in another tab. */
export function rowsWanted(): Rows {
  const text = kept()
  if (text !== known.text) known = { text, rows: read(text) }
  return known.rows
}

/** kept is what the browser keeps; a browser may refuse to keep anything. */
function kept() {
  try {
    return window.localStorage.getItem(place)
  } catch {
    return known.text
  }
}

function read(text: string | null): Rows {
  try {
    const kept = JSON.parse(text ?? '{}') as Partial<Rows>
    const size = kept.size ?? 0
    return { size: sizes.includes(size) ? size : usual.size, compact: kept.compact === true }
  } catch {
    return usual
  }
}

export function wantRows(rows: Rows) {
  const text = JSON.stringify(rows)
  try {
    window.localStorage.setItem(place, text)
  } catch {
    // it holds until the page is left
  }
  known = { text, rows: read(text) }
  listeners.forEach((told) => told())
}

export const useRows = () => useSyncExternalStore(listen, rowsWanted)

function listen(told: () => void) {
  listeners.add(told)
  window.addEventListener('storage', told)
  return () => {
    listeners.delete(told)
    window.removeEventListener('storage', told)
  }
}
