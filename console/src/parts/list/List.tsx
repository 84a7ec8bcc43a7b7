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
  rowSortingFeature,
  tableFeatures,
  useTable,
  type ColumnDef,
  type Row,
  type RowSelectionState,
} from '@tanstack/react-table'
import {
  memo,
  useEffect,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
  type KeyboardEvent,
  type ReactNode,
  type RefObject,
} from 'react'
import { useSearchParams } from 'react-router'
import type { Filter, ServedList } from '../../api/lists'
import { Problem } from '../Problem'
import { ColumnChoice } from './ColumnChoice'
import type { Choice } from './choice'
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

const features = tableFeatures({
  columnVisibilityFeature,
  rowPaginationFeature,
  rowSelectionFeature,
  rowSortingFeature,
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
  const place = JSON.stringify([p.list.keyed, p.filter, order])
  const cursors = useMemo(
    () => new Cursors(pageSize),
    // eslint-disable-next-line react-hooks/exhaustive-deps -- place stands for what is asked for
    [place],
  )
  const rows = useQuery({
    ...listQuery(p.list, p.filter, order, page, () => cursors.of(page)),
    placeholderData: keepPreviousData,
    refetchInterval: 10_000,
  })
  const items = rows.data?.items ?? nothing
  const total = rows.data?.total ?? undefined
  useEffect(() => {
    if (!rows.isPlaceholderData) cursors.learn(page, rows.data?.next)
  }, [cursors, page, rows.data, rows.isPlaceholderData])
  const [hidden, setHidden] = useState(() => hiddenColumns(p.list.name))
  const narrow = useMediaQuery(useTheme().breakpoints.down('md'))
  const { choice, choose } = p
  const columns = useMemo(
    () =>
      p.columns.map((c): ColumnDef<Features, T> => ({
        id: c.field,
        header: c.title,
        accessorFn: (row) => row,
        enableSorting: c.sorts === true,
        sortDescFirst: false,
      })),
    [p.columns],
  )
  const table = useTable<Features, T>({
    features,
    columns,
    data: items,
    getRowId: p.id,
    manualSorting: true,
    manualPagination: true,
    rowCount: total ?? -1,
    enableRowSelection: choice !== undefined,
    state: {
      sorting: order.sort ? [{ id: order.sort, desc: order.desc === true }] : [],
      pagination: { pageIndex: page - 1, pageSize },
      columnVisibility: Object.fromEntries(
        p.columns.map((c) => [c.field, Boolean(c.always || (narrow ? c.narrow : !hidden.includes(c.field)))]),
      ),
      rowSelection: selection(choice, items, p.id),
    },
    onSortingChange: (change) => {
      const [by] = functionalUpdate(change, order.sort ? [{ id: order.sort, desc: order.desc === true }] : [])
      setSearch((old) => ordered(old, by), { replace: true, preventScrollReset: true })
    },
    onPaginationChange: (change) => {
      const to = functionalUpdate(change, { pageIndex: page - 1, pageSize })
      setSearch((old) => paged(old, to.pageIndex + 1))
    },
    onRowSelectionChange: (change) => {
      const names = functionalUpdate(change, selection(choice, items, p.id))
      choose?.({ all: false, names: new Set(Object.keys(names)) }, total)
    },
  })
  const body = useRef<HTMLTableSectionElement>(null)
  const [focus, setFocus] = useState(0)
  const acts = useActs<T>(p.open, table.getRowModel().rows, body, setFocus)
  if (rows.error && !rows.data) return <Problem error={rows.error} again={() => void rows.refetch()} />
  const drawn = p.columns.filter((c) => table.getColumn(c.field)?.getIsVisible())
  const last = total === undefined ? undefined : Math.max(1, table.getPageCount())
  return (
    <Paper sx={{ minWidth: 0 }}>
      <Box sx={{ height: 2 }}>
        {rows.isFetching && rows.isPlaceholderData && <LinearProgress aria-label="Loading" sx={{ height: 2 }} />}
      </Box>
      <TableContainer
        tabIndex={0}
        role="region"
        aria-label={`${p.list.name}, table`}
        sx={{ minHeight: p.height ?? (rows.isLoading ? 420 : undefined) }}
      >
        <Table size="small" aria-label={p.list.name} aria-busy={rows.isFetching}>
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
                const column = table.getColumn(c.field)
                const sorted = column?.getIsSorted() ?? false
                return (
                  <TableCell
                    key={c.field}
                    sortDirection={sorted}
                    sx={{ width: c.wide ? '40%' : undefined, whiteSpace: 'nowrap' }}
                  >
                    {c.sorts ? (
                      <TableSortLabel
                        active={sorted !== false}
                        direction={sorted || 'asc'}
                        onClick={column?.getToggleSortingHandler()}
                      >
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
          <TableBody ref={body}>
            {table.getRowModel().rows.map((row, i) => (
              <Line
                key={row.id}
                row={row.original}
                id={row.id}
                at={i}
                columns={drawn}
                stop={i === Math.min(focus, items.length - 1)}
                acts={acts}
                chosen={choice && row.getIsSelected()}
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
          <Turn label="First page" sign="«" off={page === 1} turn={() => table.firstPage()} />
          <Turn label="Previous page" sign="‹" off={page === 1} turn={() => table.previousPage()} />
          <Turn label="Next page" sign="›" off={!rows.data?.next} turn={() => table.nextPage()} />
          <Turn
            label={last ? `Last page, ${count(last)}` : 'Last page'}
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
  focus: (at: number) => void
  open: (at: number) => void
  toggle: (at: number, e?: unknown) => void
}

/**
 * useActs gives what can be done with a row of a list as the list stands at that moment; the functions stay the same,
 * so that lines need not be drawn again.
 */
function useActs<T extends object>(
  open: ((row: T) => void) | undefined,
  rows: Row<Features, T>[],
  body: RefObject<HTMLTableSectionElement | null>,
  setFocus: (i: number) => void,
): Acts {
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
      focus: setFocus,
      open: opens,
      key: (e, at) => {
        if (e.target !== e.currentTarget) return
        const row = now.current.rows[at]
        const to = e.key === 'ArrowDown' ? at + 1 : e.key === 'ArrowUp' ? at - 1 : undefined
        if (to !== undefined && to >= 0 && to < now.current.rows.length) {
          e.preventDefault()
          setFocus(to)
          ;(body.current?.children[to] as HTMLElement | undefined)?.focus()
        } else if (e.key === 'Enter') {
          opens(at)
        } else if (e.key === ' ' && row?.getCanSelect()) {
          e.preventDefault()
          row.toggleSelected()
        }
      },
    }
  }, [body, setFocus])
}

/** Line is a row. It is drawn again only when something in it changed, not whenever another page is asked for. */
const Line = memo(function Line<T>({ row, id, at, columns, chosen, stop, acts }: LineProps<T>) {
  return (
    <TableRow
      hover
      data-id={id}
      selected={chosen === true}
      tabIndex={stop ? 0 : -1}
      onKeyDown={(e) => acts.key(e, at)}
      onFocus={(e) => e.target === e.currentTarget && acts.focus(at)}
      onDoubleClick={() => acts.open(at)}
    >
      {chosen !== undefined && (
        <TableCell padding="checkbox">
          <Checkbox
            size="small"
            slotProps={{ input: { 'aria-label': `Choose ${id}` } }}
            checked={chosen}
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
  stop: boolean
  acts: Acts
}

/** same reports whether a line would be drawn as before: its columns may be in another array. */
function same(a: LineProps<unknown>, b: LineProps<unknown>) {
  return (
    a.row === b.row &&
    a.at === b.at &&
    a.chosen === b.chosen &&
    a.stop === b.stop &&
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

function paged(old: URLSearchParams, to: number) {
  const made = new URLSearchParams(old)
  if (to > 1) made.set('page', String(to))
  else made.delete('page')
  return made
}

/** ordered writes an order into an address and begins at the first page again; undefined: the list's own order. */
function ordered(old: URLSearchParams, by: { id: string; desc: boolean } | undefined) {
  const made = new URLSearchParams(old)
  for (const name of ['page', 'sort', 'desc']) made.delete(name)
  if (by) made.set('sort', by.id)
  if (by?.desc) made.set('desc', 'true')
  return made
}
