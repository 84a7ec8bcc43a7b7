import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import { useTheme } from '@mui/material/styles'
import useMediaQuery from '@mui/material/useMediaQuery'
import { type GridColDef } from '@mui/x-data-grid'
import { Link as RouterLink, useNavigate } from 'react-router'
import { api, take, type Slot } from '../../api/client'
import { ConditionMark } from '../../parts/Condition'
import ServerGrid from '../../parts/ServerGrid'
import { day, days } from '../../parts/words'

const place = (s: Slot) => `/slots/${encodeURIComponent(s.device)}/${encodeURIComponent(s.name)}`

const columns: GridColDef<Slot>[] = [
  { field: 'condition', headerName: 'Condition', width: 105, renderCell: ({ row }) => <ConditionMark condition={row.condition} /> },
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
  { field: 'expires_in_days', headerName: 'Holds', width: 118, sortable: false, align: 'right', headerAlign: 'right', valueFormatter: (v: number | null) => days(v) },
  { field: 'findings', headerName: 'Worst finding', flex: 2, minWidth: 200, sortable: false, valueGetter: (_, row) => row.findings[0]?.what ?? '' },
]

/** SlotGrid is the table of slots; on a narrow screen only what matters most. */
export default function SlotGrid({ filter }: { filter: Record<string, string> }) {
  const narrow = useMediaQuery(useTheme().breakpoints.down('md'))
  const navigate = useNavigate()
  return (
    <ServerGrid
      name="slots"
      filter={filter}
      load={(wanted) => take(api.GET('/api/v1/slots', { params: { query: { ...filter, ...wanted } } }))}
      columns={columns}
      hidden={narrow ? ['site', 'address', 'expires_at', 'findings'] : []}
      id={(s) => `${s.device}/${s.name}`}
      open={(s) => void navigate(place(s))}
      empty="No slot fits the filter."
    />
  )
}
