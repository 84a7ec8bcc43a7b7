import { DataGrid, type GridColDef, type GridRowId, type GridValidRowModel } from '@mui/x-data-grid'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useSearchParams } from 'react-router'
import { Problem } from './Problem'

/** Wanted is the part of a list that the grid asks the service for. */
export type Wanted = { sort?: string; desc?: 'true' | 'false'; limit: string; cursor?: string }

const pageSize = 50

type Props<T extends GridValidRowModel> = {
  name: string // of the list, for the cache
  filter: Record<string, string> // a change of it begins at the first page again
  load: (wanted: Wanted) => Promise<{ items: T[]; next?: string }>
  columns: GridColDef<T>[]
  hidden?: string[]
  id: (row: T) => string
  open: (row: T) => void
  empty: string
  selected?: string[]
  select?: (ids: string[]) => void
}

/** ServerGrid is a table whose filter, order and pages are the service's: it holds one page, however long the list is. */
export default function ServerGrid<T extends GridValidRowModel>(p: Props<T>) {
  const [search, setSearch] = useSearchParams()
  const sort = search.get('sort') ?? undefined
  const desc = search.get('desc') === 'true'
  const list = JSON.stringify([p.filter, sort, desc])
  const [place, setPlace] = useState({ list, cursors: [''] }) // the cursor of each page up to the one that is shown
  const cursors = place.list === list ? place.cursors : ['']
  const cursor = cursors[cursors.length - 1]
  const rows = useQuery({
    queryKey: [p.name, 'page', list, cursor],
    queryFn: () => p.load({ limit: String(pageSize), ...(sort && { sort }), ...(desc && { desc: 'true' as const }), ...(cursor && { cursor }) }),
    placeholderData: keepPreviousData,
    refetchInterval: 10_000,
  })
  if (rows.error) return <Problem error={rows.error} again={() => void rows.refetch()} />
  const next = rows.data?.next
  const turn = (page: number) => setPlace({ list, cursors: page < cursors.length ? cursors.slice(0, page + 1) : [...cursors, next ?? ''] })
  const order = (field?: string, way?: string | null) =>
    setSearch(
      (old) => {
        const made = new URLSearchParams(old)
        made.delete('sort')
        made.delete('desc')
        if (field) made.set('sort', field)
        if (way === 'desc') made.set('desc', 'true')
        return made
      },
      { replace: true },
    )
  return (
    <DataGrid
      rows={rows.data?.items ?? []}
      loading={rows.isLoading}
      columns={p.columns}
      columnVisibilityModel={Object.fromEntries((p.hidden ?? []).map((field) => [field, false]))}
      getRowId={p.id}
      density="compact"
      autoHeight
      disableColumnMenu
      disableColumnFilter
      disableRowSelectionOnClick
      checkboxSelection={Boolean(p.select)}
      rowSelectionModel={{ type: 'include', ids: new Set<GridRowId>(p.selected ?? []) }}
      onRowSelectionModelChange={(model) => p.select?.(model.type === 'include' ? [...model.ids].map(String) : (rows.data?.items ?? []).map(p.id).filter((id) => !model.ids.has(id)))}
      onRowDoubleClick={({ row }) => p.open(row)}
      sortingMode="server"
      sortModel={sort ? [{ field: sort, sort: desc ? 'desc' : 'asc' }] : []}
      onSortModelChange={(model) => order(model[0]?.field, model[0]?.sort)}
      paginationMode="server"
      rowCount={next ? -1 : (cursors.length - 1) * pageSize + (rows.data?.items.length ?? 0)}
      paginationMeta={{ hasNextPage: Boolean(next) }}
      paginationModel={{ page: cursors.length - 1, pageSize }}
      onPaginationModelChange={(model) => turn(model.page)}
      pageSizeOptions={[pageSize]}
      localeText={{ noRowsLabel: p.empty }}
      sx={{ bgcolor: 'background.paper' }}
    />
  )
}
