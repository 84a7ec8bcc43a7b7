import Box from '@mui/material/Box'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useRef, type ReactNode } from 'react'

type Props<T> = {
  about: string // what is listed
  items: T[]
  row: (item: T) => ReactNode
}

/** VirtualRows lists any number of rows in a box that scrolls; only those in sight are drawn. */
export function VirtualRows<T>({ about, items, row }: Props<T>) {
  const box = useRef<HTMLDivElement>(null)
  const rows = useVirtualizer({
    count: items.length,
    getScrollElement: () => box.current,
    estimateSize: () => 40,
    overscan: 12,
  })
  return (
    <Box ref={box} sx={{ overflow: 'auto', maxHeight: 480 }} tabIndex={0} role="region" aria-label={about}>
      <Box role="list" sx={{ position: 'relative' }} style={{ height: rows.getTotalSize() }}>
        {rows.getVirtualItems().map((v) => (
          <Box
            key={v.key}
            role="listitem"
            aria-setsize={items.length}
            aria-posinset={v.index + 1}
            data-index={v.index}
            ref={rows.measureElement}
            sx={{ position: 'absolute', top: 0, left: 0, right: 0 }}
            style={{ transform: `translateY(${v.start}px)` }}
          >
            {row(items[v.index] as T)}
          </Box>
        ))}
      </Box>
    </Box>
  )
}
