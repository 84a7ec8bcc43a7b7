import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import { useTheme } from '@mui/material/styles'
import useMediaQuery from '@mui/material/useMediaQuery'
import { DataGrid, type GridColDef } from '@mui/x-data-grid'
import { Link as RouterLink, useNavigate } from 'react-router'
import type { Slot } from '../../api/client'
import { ConditionMark, conditions } from '../../parts/Condition'
import { day, days } from '../../parts/words'

const place = (s: Slot) => `/slots/${encodeURIComponent(s.device)}/${encodeURIComponent(s.name)}`
const order = Object.keys(conditions)

const columns: GridColDef<Slot>[] = [
  {
    field: 'condition', headerName: 'Condition', width: 105,
    sortComparator: (a: string, b: string) => order.indexOf(a) - order.indexOf(b),
    renderCell: ({ row }) => <ConditionMark condition={row.condition} />,
  },
  {
    field: 'device', headerName: 'Slot', flex: 2, minWidth: 150, valueGetter: (_, row) => `${row.device}/${row.name}`,
    renderCell: ({ row }) => (
      <Link component={RouterLink} to={place(row)} sx={{ fontWeight: 600 }}>
        {row.device}
        <Box component="span" sx={{ color: 'text.secondary', fontWeight: 400 }}>
          /{row.name}
        </Box>
      </Link>
    ),
  },
  { field: 'site', headerName: 'Site', width: 130 },
  { field: 'address', headerName: 'Address', width: 150, valueGetter: (_, row) => `${row.address}:${row.port}` },
  { field: 'expires_at', headerName: 'Ends', width: 110, valueFormatter: (v: string | null) => day(v) },
  { field: 'expires_in_days', headerName: 'Holds', width: 118, type: 'number', align: 'right', headerAlign: 'right', valueFormatter: (v: number | null) => days(v) },
  { field: 'findings', headerName: 'Worst finding', flex: 2, minWidth: 200, sortable: false, valueGetter: (_, row) => row.findings[0]?.what ?? '' },
]

/** SlotGrid is the table; on a narrow screen only what matters most. */
export default function SlotGrid({ slots }: { slots: Slot[] }) {
  const narrow = useMediaQuery(useTheme().breakpoints.down('md'))
  const navigate = useNavigate()
  return (
    <DataGrid
      rows={slots}
      columns={columns}
      getRowId={(s) => `${s.device}/${s.name}`}
      density="compact"
      autoHeight
      disableRowSelectionOnClick
      disableColumnMenu
      onRowDoubleClick={({ row }) => void navigate(place(row))}
      columnVisibilityModel={{ site: !narrow, address: !narrow, expires_at: !narrow, findings: !narrow }}
      pageSizeOptions={[50, 100]}
      initialState={{ pagination: { paginationModel: { pageSize: 50 } } }}
      localeText={{ noRowsLabel: 'No slot fits the filter.' }}
      sx={{ bgcolor: 'background.paper' }}
    />
  )
}
