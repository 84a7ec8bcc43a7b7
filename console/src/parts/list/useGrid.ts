import { useEffect, useRef, type FocusEvent, type KeyboardEvent, type RefObject } from 'react'

const controls = 'a[href], button, input, [role="button"]'

/**
 * useGrid makes a table one stop of the Tab key: the arrow keys lead from row to row and, within one, to its links and
 * boxes; above the first row stand the headers by which it sorts. Page Up and Page Down turn the pages.
 */
export function useGrid(
  table: RefObject<HTMLTableElement | null>,
  rows: number,
  wanted: boolean,
  turn: (by: 1 | -1) => void,
) {
  const stop = useRef<HTMLElement | null>(null)
  useEffect(() => {
    const of = table.current
    if (!of || !wanted) return
    const settle = () => {
      if (!stop.current?.isConnected) {
        stop.current = of.querySelector<HTMLElement>('tbody > tr') ?? of.querySelector<HTMLElement>(controls)
      }
      for (const one of of.querySelectorAll<HTMLElement>(`tbody > tr, ${controls}`)) {
        const at = one === stop.current ? 0 : -1
        if (one.tabIndex !== at) one.tabIndex = at
      }
    }
    settle()
    const changes = new MutationObserver(settle)
    changes.observe(of, { childList: true, subtree: true })
    return () => changes.disconnect()
  }, [table, rows, wanted])
  const to = (one: HTMLElement | null | undefined) => {
    if (!one) return false
    if (stop.current) stop.current.tabIndex = -1
    stop.current = one
    one.tabIndex = 0
    one.focus()
    return true
  }
  const key = (e: KeyboardEvent) => {
    if (!wanted || e.altKey || e.ctrlKey || e.metaKey) return
    const row = (e.target as HTMLElement).closest('tr')
    if (!row) return
    const within = [...(row.parentElement?.tagName === 'TBODY' ? [row] : []), ...inside(row)]
    const at = within.indexOf(e.target as HTMLElement)
    const moves: Record<string, () => boolean> = {
      ArrowDown: () => to(next(row, 1)),
      ArrowUp: () => to(next(row, -1)),
      ArrowRight: () => to(within[at + 1]),
      ArrowLeft: () => to(within[at - 1]),
      Home: () => to(table.current?.querySelector<HTMLElement>('tbody > tr')),
      End: () => to(table.current?.querySelector<HTMLElement>('tbody > tr:last-child')),
      PageDown: () => (turn(1), true),
      PageUp: () => (turn(-1), true),
    }
    if (moves[e.key]?.()) e.preventDefault()
  }
  const focused = (e: FocusEvent) => {
    if (!wanted || e.target === stop.current) return
    if (stop.current) stop.current.tabIndex = -1
    stop.current = e.target as HTMLElement
    stop.current.tabIndex = 0
  }
  return { key, focused }
}

const inside = (row: Element) => [...row.querySelectorAll<HTMLElement>(controls)]

/** next is the row below or above another; above the first stand the controls of the head. */
function next(row: HTMLTableRowElement, by: 1 | -1): HTMLElement | null | undefined {
  const head = row.closest('thead')
  if (head) return by > 0 ? head.parentElement?.querySelector<HTMLElement>('tbody > tr') : null
  const other = by > 0 ? row.nextElementSibling : row.previousElementSibling
  if (other) return other as HTMLElement
  return by < 0 ? inside(row.closest('table')?.querySelector('thead > tr') ?? row)[0] : null
}
