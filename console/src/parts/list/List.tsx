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
import { useEffect, useMemo, useRef, useState, type KeyboardEvent, type ReactNode } from 'react'
import { useSearchParams } from 'react-router'
import type { Filter, ServedList } from '../../api/lists'
import { Problem } from '../Problem'
import { ColumnChoice } from './ColumnChoice'
import { pageToggled, toggled, type Choice } from './choice'
import { hiddenColumns, hideColumns, type Column } from './columns'
import { Cursors, count, shown } from './paging'
import { listQuery, orderOf, pageSize, wantedOf } from './query'

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
    () => new Cursors((w) => p.list.load(p.filter)({ ...w, ...wantedOf(order) }), pageSize),
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
  const columns = p.columns.filter((c) => c.always || (narrow ? c.narrow : !hidden.includes(c.field)))
  const body = useRef<HTMLTableSectionElement>(null)
  const [focus, setFocus] = useState(0)
  if (rows.error && !rows.data) return <Problem error={rows.error} again={() => void rows.refetch()} />
  const turn = (to: number) => setSearch((old) => paged(old, to))
  const last = total === undefined ? undefined : Math.max(1, Math.ceil(total / pageSize))
  const ids = items.map(p.id)
  const { choice, choose } = p
  const onKey = (e: KeyboardEvent, row: T, i: number) => {
    if (e.target !== e.currentTarget) return
    const to = e.key === 'ArrowDown' ? i + 1 : e.key === 'ArrowUp' ? i - 1 : undefined
    if (to !== undefined && to >= 0 && to < items.length) {
      e.preventDefault()
      setFocus(to)
      ;(body.current?.children[to] as HTMLElement | undefined)?.focus()
    } else if (e.key === 'Enter' && p.open) {
      p.open(row)
    } else if (e.key === ' ' && choice && choose) {
      e.preventDefault()
      choose(toggled(choice, p.id(row), ids), total)
    }
  }
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
                      onClick={() => setSearch((old) => ordered(old, c.field), { replace: true })}
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
            {items.map((row, i) => {
              const id = p.id(row)
              const is = Boolean(choice && (choice.all || choice.names.has(id)))
              return (
                <TableRow
                  key={id}
                  hover
                  data-id={id}
                  selected={is}
                  tabIndex={i === Math.min(focus, items.length - 1) ? 0 : -1}
                  onKeyDown={(e) => onKey(e, row, i)}
                  onFocus={(e) => e.target === e.currentTarget && setFocus(i)}
                  onDoubleClick={() => p.open?.(row)}
                >
                  {choice && (
                    <TableCell padding="checkbox">
                      <Checkbox size="small" slotProps={{ input: { 'aria-label': `Choose ${id}` } }} checked={is} onChange={() => choose?.(toggled(choice, id, ids), total)} />
                    </TableCell>
                  )}
                  {columns.map((c) => (
                    <TableCell key={c.field} data-field={c.field} sx={{ overflowWrap: c.wide ? 'anywhere' : undefined, minWidth: c.wide ? { xs: 115, md: 150 } : undefined }}>
                      {c.cell(row)}
                    </TableCell>
                  ))}
                </TableRow>
              )
            })}
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
