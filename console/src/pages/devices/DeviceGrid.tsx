import Link from '@mui/material/Link'
import { useTheme } from '@mui/material/styles'
import useMediaQuery from '@mui/material/useMediaQuery'
import { type GridColDef } from '@mui/x-data-grid'
import { Link as RouterLink, useNavigate } from 'react-router'
import { api, take, type Device } from '../../api/client'
import { ConditionMark } from '../../parts/Condition'
import ServerGrid from '../../parts/ServerGrid'
import { day } from '../../parts/words'

const place = (d: Device) => `/devices/${encodeURIComponent(d.name)}`

const columns: GridColDef<Device>[] = [
  { field: 'condition', headerName: 'Condition', width: 105, renderCell: ({ row }) => <ConditionMark condition={row.condition} /> },
  {
    field: 'name', headerName: 'Device', flex: 2, minWidth: 150,
    renderCell: ({ row }) => (
      <Link component={RouterLink} to={place(row)} sx={{ fontWeight: 600 }}>
        {row.name}
      </Link>
    ),
  },
  { field: 'site', headerName: 'Site', width: 120 },
  { field: 'address', headerName: 'Address', width: 120 },
  { field: 'family', headerName: 'Family', width: 150, valueFormatter: (v: string) => v || 'read only' },
  { field: 'expires_at', headerName: 'Ends', width: 105, valueFormatter: (v: string | null) => day(v) },
  { field: 'owner', headerName: 'Owner', width: 110, sortable: false },
  { field: 'tags', headerName: 'Tags', flex: 1, minWidth: 80, sortable: false, valueGetter: (_, row) => row.tags.join(' ') },
]

/** DeviceGrid is the table of devices; on a narrow screen only what matters most. */
export default function DeviceGrid({ filter, selected, select }: { filter: Record<string, string>; selected: string[]; select: (names: string[]) => void }) {
  const narrow = useMediaQuery(useTheme().breakpoints.down('md'))
  const navigate = useNavigate()
  return (
    <ServerGrid
      name="devices"
      filter={filter}
      load={(wanted) => take(api.GET('/api/v1/devices', { params: { query: { ...filter, ...wanted } } }))}
      columns={columns}
      hidden={narrow ? ['site', 'address', 'family', 'expires_at', 'owner', 'tags'] : []}
      id={(d) => d.name}
      open={(d) => void navigate(place(d))}
      empty="No device fits the filter."
      selected={selected}
      select={select}
    />
  )
}
