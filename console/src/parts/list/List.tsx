import { number, some } from '../words'
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
import {
  columnVisibilityFeature,
  functionalUpdate,
  rowPaginationFeature,
  rowSelectionFeature,
  tableFeatures,
  useTable,
  type ColumnDef,
  type Row,
  type RowSelectionState,
} from '@tanstack/react-table'
import { memo, useEffect, useLayoutEffect, useMemo, useRef, useState, type KeyboardEvent, type ReactNode } from 'react'
import { useSearchParams } from 'react-router'
import type { Filter, ServedList } from '../../api/lists'
import { Problem } from '../Problem'
import { ColumnChoice } from './ColumnChoice'
import type { Choice } from './choice'
import { hiddenColumns, hideColumns, orderOfColumn, type Column } from './columns'
import { Cursors, shown } from './paging'
import { listQuery, orderOf, type Order } from './query'
import { RowChoice } from './RowChoice'
import { useRows } from './rows'
import { useGrid } from './useGrid'
import { usePrint } from './usePrint'

type Props<T> = {
  list: ServedList<T>
  filter: Filter // a change of it begins at the first page again
  columns: Column<T>[]
  id: (row: T) => string
  open?: (row: T) => void
  empty: ReactNode
  choice?: Choice
  choosable?: (row: T) => boolean // default: every row
  choose?: (choice: Choice, total: number | undefined) => void
  tools?: ReactNode
  height?: number // kept free for it, so that what stands below does not move
  forms?: boolean // its rows hold forms of their own: every control of them is reached by Tab
}

const features = tableFeatures({
  columnVisibilityFeature,
  rowPaginationFeature,
  rowSelectionFeature,
})
type Features = typeof features

/**
 * List is a table whose filter, order and pages are the service's: it holds one page, however long the list is. Page
 * and order stand in the address.
 */
export function List<T extends object>(p: Props<T>) {
  const [search, setSearch] = useSearchParams()
  const order = orderOf(search)
  const page = Math.max(1, Number.parseInt(search.get('page') ?? '1', 10) || 1)
  const { size, compact } = useRows()
  const place = JSON.stringify([p.list.keyed, p.filter, order, size])
  const cursors = useMemo(
    () => new Cursors(size),
    // eslint-disable-next-line react-hooks/exhaustive-deps -- place stands for what is asked for
    [place],
  )
  const printing = usePrint(p.list, p.filter, order)
  const rows = useQuery({
    ...listQuery(p.list, p.filter, order, page, () => cursors.of(page)),
    placeholderData: keepPreviousData,
    refetchInterval: 10_000,
  })
  const items = printing.rows ?? rows.data?.items ?? nothing
  const total = rows.data?.total ?? undefined
  useEffect(() => {
    if (!rows.isPlaceholderData) cursors.learn(page, rows.data?.next)
  }, [cursors, page, rows.data, rows.isPlaceholderData])
  const [hidden, setHidden] = useState(() => hiddenColumns(p.list.name, p.columns))
  const narrow = useMediaQuery(useTheme().breakpoints.down('md'))
  const { choice, choose } = p
  const columns = useMemo(
    () =>
      p.columns.map((c): ColumnDef<Features, T> => ({
        id: c.field,
        header: c.title,
        accessorFn: (row) => row,
      })),
    [p.columns],
  )
  const table = useTable<Features, T>({
    features,
    columns,
    data: items,
    getRowId: p.id,
    manualPagination: true,
    rowCount: total ?? -1,
    enableRowSelection: (row) => choice !== undefined && (p.choosable?.(row.original) ?? true),
    state: {
      pagination: { pageIndex: page - 1, pageSize: size },
      columnVisibility: Object.fromEntries(
        p.columns.map((c) => [
          c.field,
          Boolean(c.always || (narrow && !printing.rows ? c.narrow : !hidden.includes(c.field))),
        ]),
      ),
      rowSelection: selection(choice, items, p.id),
    },
    onPaginationChange: (change) => {
      const to = functionalUpdate(change, { pageIndex: page - 1, pageSize: size })
      setSearch((old) => paged(old, to.pageIndex + 1))
    },
    onRowSelectionChange: (change) => {
      const names = functionalUpdate(change, selection(choice, items, p.id))
      choose?.({ all: false, names: new Set(Object.keys(names)) }, total)
    },
  })
  const acts = useActs<T>(p.open, table.getRowModel().rows)
  const more = Boolean(rows.data?.next)
  const drawnTable = useRef<HTMLTableElement>(null)
  const grid = useGrid(drawnTable, items.length, p.forms !== true, (by) => {
    if (by > 0 ? more : page > 1) setSearch((old) => paged(old, page + by))
  })
  if (rows.error && !rows.data) return <Problem error={rows.error} again={() => void rows.refetch()} />
  const drawn = p.columns.filter((c) => table.getColumn(c.field)?.getIsVisible())
  const sortBy = (by: string) => setSearch((old) => ordered(old, after(order, by)), { replace: true })
  const last = total === undefined ? undefined : Math.max(1, table.getPageCount())
  return (
    <Paper sx={{ minWidth: 0 }}>
      {printing.rows && (
        <Box role="status" sx={{ p: 1, display: 'flex', gap: 1, alignItems: 'center' }}>
          {items.length < (total ?? 0)
            ? `The first ${number(items.length)} of ${number(total ?? 0)} rows: filter the list to print the others.`
            : some(items.length, 'row')}
          <Button size="small" className="no-print" onClick={printing.done}>
            Back to pages
          </Button>
        </Box>
      )}
      {printing.error && <Problem error={printing.error} again={printing.print} />}
      <Box sx={{ height: 2 }}>
        {rows.isFetching && rows.isPlaceholderData && <LinearProgress aria-label="Loading" sx={{ height: 2 }} />}
      </Box>
      <TableContainer
        tabIndex={items.length === 0 || p.forms ? 0 : undefined}
        role="region"
        aria-label={`${p.list.name}, table`}
        sx={{ minHeight: p.height ?? (rows.isLoading ? 420 : undefined) }}
      >
        <Table
          ref={drawnTable}
          size="small"
          role={p.forms ? undefined : 'grid'}
          aria-label={p.list.name}
          aria-busy={rows.isFetching}
          onKeyDown={grid.key}
          onFocus={grid.focused}
          sx={compact ? { '& td': { py: '1px', lineHeight: 1.35 } } : undefined}
        >
          <TableHead>
            <TableRow>
              {choice && (
                <TableCell padding="checkbox">
                  <Checkbox
                    size="small"
                    slotProps={{ input: { 'aria-label': 'Choose all on this page' } }}
                    checked={items.length > 0 && table.getIsAllPageRowsSelected()}
                    indeterminate={table.getIsSomePageRowsSelected()}
                    onChange={table.getToggleAllPageRowsSelectedHandler()}
                  />
                </TableCell>
              )}
              {drawn.map((c) => {
                const by = orderOfColumn(c)
                const sorted = by !== undefined && by === order.sort && (order.desc ? 'desc' : 'asc')
                return (
                  <TableCell
                    key={c.field}
                    sortDirection={sorted}
                    sx={{ width: c.wide ? '40%' : undefined, whiteSpace: 'nowrap' }}
                  >
                    {by ? (
                      <TableSortLabel active={sorted !== false} direction={sorted || 'asc'} onClick={() => sortBy(by)}>
                        {c.title}
                      </TableSortLabel>
                    ) : (
                      c.title
                    )}
                  </TableCell>
                )
              })}
            </TableRow>
          </TableHead>
          <TableBody>
            {table.getRowModel().rows.map((row, i) => (
              <Line
                key={row.id}
                row={row.original}
                id={row.id}
                at={i}
                columns={drawn}
                acts={acts}
                chosen={choice && row.getIsSelected()}
                fixed={!row.getCanSelect()}
              />
            ))}
          </TableBody>
        </Table>
        {rows.data && items.length === 0 && <Box sx={{ p: 2, color: 'text.secondary' }}>{p.empty}</Box>}
      </TableContainer>
      <Box
        sx={{
          display: 'flex',
          flexWrap: 'wrap',
          gap: 1,
          alignItems: 'center',
          p: 1,
          borderTop: 1,
          borderColor: 'divider',
        }}
        className="no-print"
      >
        <RowChoice />
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
        <Button size="small" color="inherit" disabled={printing.fetching} onClick={printing.print}>
          Print
        </Button>
        {p.tools}
        <Typography role="status" aria-label="Rows shown" sx={{ ml: 'auto', color: 'text.secondary' }}>
          {rows.data ? shown(page, size, items.length, total) : ''}
        </Typography>
        <Box component="nav" aria-label={`Pages of ${p.list.name}`} sx={{ display: 'flex', gap: 0.5 }}>
          <Turn label="First page" sign="«" off={page === 1} turn={() => table.firstPage()} />
          <Turn label="Previous page" sign="‹" off={page === 1} turn={() => table.previousPage()} />
          <Turn label="Next page" sign="›" off={!rows.data?.next} turn={() => table.nextPage()} />
          <Turn
            label={last ? `Last page, ${number(last)}` : 'Last page'}
            sign="»"
            off={!last || page >= last}
            turn={() => table.lastPage()}
          />
        </Box>
      </Box>
    </Paper>
  )
}

const nothing: never[] = []

/** selection is a choice as the table keeps it: the chosen rows by id, those of other pages too. */
function selection<T>(choice: Choice | undefined, items: T[], id: (row: T) => string): RowSelectionState {
  if (!choice) return {}
  return Object.fromEntries((choice.all ? items.map(id) : [...choice.names]).map((name) => [name, true as const]))
}

type Acts = {
  key: (e: KeyboardEvent, at: number) => void
  open: (at: number) => void
  toggle: (at: number, e?: unknown) => void
}

/**
 * useActs gives what can be done with a row of a list as the list stands at that moment; the functions stay the same,
 * so that lines need not be drawn again.
 */
function useActs<T extends object>(open: ((row: T) => void) | undefined, rows: Row<Features, T>[]): Acts {
  const now = useRef({ open, rows })
  useLayoutEffect(() => {
    now.current = { open, rows }
  })
  return useMemo(() => {
    const opens = (at: number) => {
      const row = now.current.rows[at]
      if (row) now.current.open?.(row.original)
    }
    return {
      toggle: (at, e) => now.current.rows[at]?.getToggleSelectedHandler()(e),
      open: opens,
      key: (e, at) => {
        if (e.target !== e.currentTarget) return
        const row = now.current.rows[at]
        if (e.key === 'Enter') {
          opens(at)
        } else if (e.key === ' ' && row?.getCanSelect()) {
          e.preventDefault()
          row.toggleSelected()
        }
      },
    }
  }, [])
}

/** Line is a row. It is drawn again only when something in it changed, not whenever another page is asked for. */
const Line = memo(function Line<T>({ row, id, at, columns, chosen, fixed, acts }: LineProps<T>) {
  return (
    <TableRow
      hover
      data-id={id}
      selected={chosen === true}
      tabIndex={-1}
      onKeyDown={(e) => acts.key(e, at)}
      onDoubleClick={() => acts.open(at)}
    >
      {chosen !== undefined && (
        <TableCell padding="checkbox">
          <Checkbox
            size="small"
            slotProps={{ input: { 'aria-label': `Choose ${id}` } }}
            checked={chosen}
            disabled={fixed}
            onChange={(e) => acts.toggle(at, e)}
          />
        </TableCell>
      )}
      {columns.map((c) => (
        <TableCell
          key={c.field}
          data-field={c.field}
          sx={{ overflowWrap: c.wide ? 'anywhere' : undefined, minWidth: c.wide ? { xs: 115, md: 150 } : undefined }}
        >
          {c.cell(row)}
        </TableCell>
      ))}
    </TableRow>
  )
}, same) as <T>(p: LineProps<T>) => ReactNode

type LineProps<T> = {
  row: T
  id: string
  at: number
  columns: Column<T>[]
  chosen: boolean | undefined
  fixed: boolean // it cannot be chosen
  acts: Acts
}

/** same reports whether a line would be drawn as before: its columns may be in another array. */
function same(a: LineProps<unknown>, b: LineProps<unknown>) {
  return (
    a.row === b.row &&
    a.at === b.at &&
    a.chosen === b.chosen &&
    a.fixed === b.fixed &&
    a.columns.length === b.columns.length &&
    a.columns.every((c, i) => c === b.columns[i])
  )
}

function Turn({ label, sign, off, turn }: { label: string; sign: string; off: boolean; turn: () => void }) {
  return (
    <Button
      size="small"
      variant="outlined"
      color="inherit"
      aria-label={label}
      disabled={off}
      onClick={turn}
      sx={{ minWidth: 36 }}
    >
      {sign}
    </Button>
  )
}

/** after is the order behind a press on a column: up, down, and the list's own again. */
function after(order: Order, by: string): Order {
  if (order.sort !== by) return { sort: by }
  return order.desc ? {} : { sort: by, desc: true }
}

function paged(old: URLSearchParams, to: number) {
  const made = new URLSearchParams(old)
  if (to > 1) made.set('page', String(to))
  else made.delete('page')
  return made
}

/** ordered writes an order into an address and begins at the first page again. */
function ordered(old: URLSearchParams, by: Order) {
  const made = new URLSearchParams(old)
  for (const name of ['page', 'sort', 'desc']) made.delete(name)
  if (by.sort) made.set('sort', by.sort)
  if (by.desc) made.set('desc', 'true')
  return made
}
