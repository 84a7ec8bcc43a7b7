import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import LinearProgress from '@mui/material/LinearProgress'
import Paper from '@mui/material/Paper'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableContainer from '@mui/material/TableContainer'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TableSortLabel from '@mui/material/TableSortLabel'
import Typography from '@mui/material/Typography'
import { useTheme } from '@mui/material/styles'
import useMediaQuery from '@mui/material/useMediaQuery'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { memo, useEffect, useLayoutEffect, useMemo, useRef, useState, type KeyboardEvent, type ReactNode, type RefObject } from 'react'
import { useSearchParams } from 'react-router'
import type { Filter, ServedList } from '../../api/lists'
import { Problem } from '../Problem'
import { ColumnChoice } from './ColumnChoice'
import { pageToggled, toggled, type Choice } from './choice'
import { hiddenColumns, hideColumns, type Column } from './columns'
import { Cursors, count, shown } from './paging'
import { listQuery, orderOf, pageSize } from './query'

type Props<T> = {
  list: ServedList<T>
  filter: Filter // a change of it begins at the first page again
  columns: Column<T>[]
  id: (row: T) => string
  open?: (row: T) => void
  empty: ReactNode
  choice?: Choice
  choose?: (choice: Choice, total: number | undefined) => void
  tools?: ReactNode
  height?: number // kept free for it, so that what stands below does not move
}

/** List is a table whose filter, order and pages are the service's: it holds one page, however long the list is. Page and order stand in the address. */
export function List<T>(p: Props<T>) {
  const [search, setSearch] = useSearchParams()
  const order = orderOf(search)
  const { sort, desc } = order
  const page = Math.max(1, Number.parseInt(search.get('page') ?? '1', 10) || 1)
  const place = JSON.stringify([p.list.keyed, p.filter, order])
  const cursors = useMemo(
    () => new Cursors(pageSize),
    // eslint-disable-next-line react-hooks/exhaustive-deps -- place stands for what is asked for
    [place],
  )
  const rows = useQuery({ ...listQuery(p.list, p.filter, order, page, () => cursors.of(page)), placeholderData: keepPreviousData, refetchInterval: 10_000 })
  const items = rows.data?.items ?? []
  const total = rows.data?.total ?? undefined
  useEffect(() => {
    if (!rows.isPlaceholderData) cursors.learn(page, rows.data?.next)
  }, [cursors, page, rows.data, rows.isPlaceholderData])
  const [hidden, setHidden] = useState(() => hiddenColumns(p.list.name))
  const narrow = useMediaQuery(useTheme().breakpoints.down('md'))
  const columns = useMemo(() => p.columns.filter((c) => c.always || (narrow ? c.narrow : !hidden.includes(c.field))), [p.columns, narrow, hidden])
  const body = useRef<HTMLTableSectionElement>(null)
  const [focus, setFocus] = useState(0)
  const acts = useActs({ ...p, items, total }, body, setFocus)
  if (rows.error && !rows.data) return <Problem error={rows.error} again={() => void rows.refetch()} />
  const turn = (to: number) => setSearch((old) => paged(old, to))
  const last = total === undefined ? undefined : Math.max(1, Math.ceil(total / pageSize))
  const ids = items.map(p.id)
  const { choice, choose } = p
  return (
    <Paper sx={{ minWidth: 0 }}>
      <Box sx={{ height: 2 }}>{rows.isFetching && rows.isPlaceholderData && <LinearProgress aria-label="Loading" sx={{ height: 2 }} />}</Box>
      <TableContainer tabIndex={0} role="region" aria-label={`${p.list.name}, table`} sx={{ minHeight: p.height ?? (rows.isLoading ? 420 : undefined) }}>
        <Table size="small" aria-label={p.list.name} aria-busy={rows.isFetching}>
          <TableHead>
            <TableRow>
              {choice && (
                <TableCell padding="checkbox">
                  <Checkbox
                    size="small"
                    slotProps={{ input: { 'aria-label': 'Choose all on this page' } }}
                    checked={ids.length > 0 && (choice.all || ids.every((id) => choice.names.has(id)))}
                    indeterminate={!choice.all && ids.some((id) => choice.names.has(id)) && !ids.every((id) => choice.names.has(id))}
                    onChange={() => choose?.(pageToggled(choice, ids), total)}
                  />
                </TableCell>
              )}
              {columns.map((c) => (
                <TableCell key={c.field} sortDirection={sort === c.field ? (desc ? 'desc' : 'asc') : false} sx={{ width: c.wide ? '40%' : undefined, whiteSpace: 'nowrap' }}>
                  {c.sorts ? (
                    <TableSortLabel
                      active={sort === c.field}
                      direction={sort === c.field && desc ? 'desc' : 'asc'}
                      onClick={() => setSearch((old) => ordered(old, c.field), { replace: true, preventScrollReset: true })}
                    >
                      {c.title}
                    </TableSortLabel>
                  ) : (
                    c.title
                  )}
                </TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody ref={body}>
            {items.map((row, i) => (
              <Line
                key={p.id(row)}
                row={row}
                id={p.id(row)}
                columns={columns}
                stop={i === Math.min(focus, items.length - 1)}
                acts={acts}
                chosen={choice && (choice.all || choice.names.has(p.id(row)))}
              />
            ))}
          </TableBody>
        </Table>
        {rows.data && items.length === 0 && <Box sx={{ p: 2, color: 'text.secondary' }}>{p.empty}</Box>}
      </TableContainer>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, alignItems: 'center', p: 1, borderTop: 1, borderColor: 'divider' }} className="no-print">
        {!narrow && (
          <ColumnChoice
            columns={p.columns}
            hidden={hidden}
            hide={(fields) => {
              setHidden(fields)
              hideColumns(p.list.name, fields)
            }}
          />
        )}
        {p.tools}
        <Typography role="status" aria-label="Rows shown" sx={{ ml: 'auto', color: 'text.secondary' }}>
          {rows.data ? shown(page, pageSize, items.length, total) : ''}
        </Typography>
        <Box component="nav" aria-label={`Pages of ${p.list.name}`} sx={{ display: 'flex', gap: 0.5 }}>
          <Turn to={1} label="First page" sign="«" off={page === 1} turn={turn} />
          <Turn to={page - 1} label="Previous page" sign="‹" off={page === 1} turn={turn} />
          <Turn to={page + 1} label="Next page" sign="›" off={!rows.data?.next} turn={turn} />
          <Turn to={last ?? page} label={last ? `Last page, ${count(last)}` : 'Last page'} sign="»" off={!last || page >= last} turn={turn} />
        </Box>
      </Box>
    </Paper>
  )
}

type Acts<T> = { key: (e: KeyboardEvent, row: T) => void; focus: (row: T) => void; open: (row: T) => void; toggle: (row: T) => void }

/** useActs gives what can be done with a row of a list as the list stands at that moment; the functions stay the same, so that lines need not be drawn again. */
function useActs<T>(of: Props<T> & { items: T[]; total: number | undefined }, body: RefObject<HTMLTableSectionElement | null>, setFocus: (i: number) => void): Acts<T> {
  const now = useRef(of)
  useLayoutEffect(() => {
    now.current = of
  })
  return useMemo(() => {
    const toggle = (row: T) => {
      const { choice, choose, items, total, id } = now.current
      if (choice && choose) choose(toggled(choice, id(row), items.map(id)), total)
    }
    return {
      toggle,
      focus: (row) => setFocus(now.current.items.indexOf(row)),
      open: (row) => now.current.open?.(row),
      key: (e, row) => {
        if (e.target !== e.currentTarget) return
        const { items, open, choice } = now.current
        const i = items.indexOf(row)
        const to = e.key === 'ArrowDown' ? i + 1 : e.key === 'ArrowUp' ? i - 1 : undefined
        if (to !== undefined && to >= 0 && to < items.length) {
          e.preventDefault()
          setFocus(to)
          ;(body.current?.children[to] as HTMLElement | undefined)?.focus()
        } else if (e.key === 'Enter' && open) {
          open(row)
        } else if (e.key === ' ' && choice) {
          e.preventDefault()
          toggle(row)
        }
      },
    }
  }, [body, setFocus])
}

/** Line is a row. It is drawn again only when something in it changed, not whenever another page is asked for. */
const Line = memo(function Line<T>({
  row,
  id,
  columns,
  chosen,
  stop,
  acts,
}: {
  row: T
  id: string
  columns: Column<T>[]
  chosen: boolean | undefined
  stop: boolean
  acts: Acts<T>
}) {
  return (
    <TableRow
      hover
      data-id={id}
      selected={chosen === true}
      tabIndex={stop ? 0 : -1}
      onKeyDown={(e) => acts.key(e, row)}
      onFocus={(e) => e.target === e.currentTarget && acts.focus(row)}
      onDoubleClick={() => acts.open(row)}
    >
      {chosen !== undefined && (
        <TableCell padding="checkbox">
          <Checkbox size="small" slotProps={{ input: { 'aria-label': `Choose ${id}` } }} checked={chosen} onChange={() => acts.toggle(row)} />
        </TableCell>
      )}
      {columns.map((c) => (
        <TableCell key={c.field} data-field={c.field} sx={{ overflowWrap: c.wide ? 'anywhere' : undefined, minWidth: c.wide ? { xs: 115, md: 150 } : undefined }}>
          {c.cell(row)}
        </TableCell>
      ))}
    </TableRow>
  )
}) as <T>(p: { row: T; id: string; columns: Column<T>[]; chosen: boolean | undefined; stop: boolean; acts: Acts<T> }) => ReactNode

function Turn({ to, label, sign, off, turn }: { to: number; label: string; sign: string; off: boolean; turn: (to: number) => void }) {
  return (
    <Button size="small" variant="outlined" color="inherit" aria-label={label} disabled={off} onClick={() => turn(to)} sx={{ minWidth: 36 }}>
      {sign}
    </Button>
  )
}

function paged(old: URLSearchParams, to: number) {
  const made = new URLSearchParams(old)
  if (to > 1) made.set('page', String(to))
  else made.delete('page')
  return made
}

/** ordered sorts by a field; by it already, the other way round; then in the list's own order again. */
export function ordered(old: URLSearchParams, field: string) {
  const made = new URLSearchParams(old)
  made.delete('page')
  if (old.get('sort') !== field) {
    made.set('sort', field)
    made.delete('desc')
  } else if (old.get('desc') !== 'true') {
    made.set('desc', 'true')
  } else {
    made.delete('sort')
    made.delete('desc')
  }
  return made
}
