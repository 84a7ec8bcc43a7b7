import Link from '@mui/material/Link'
import { Link as RouterLink } from 'react-router'
import type { Device } from '../../api/client'
import { ConditionMark } from '../../parts/Condition'
import { Foreign } from '../../parts/Foreign'
import type { Column } from '../../parts/list/columns'
import { day, devicePath } from '../../parts/words'
import { Name } from '../../parts/Name'

export const deviceColumns: Column<Device>[] = [
  {
    field: 'condition',
    title: 'Condition',
    sorts: true,
    always: true,
    narrow: true,
    cell: (d) => <ConditionMark condition={d.condition} />,
  },
  {
    field: 'name',
    title: 'Device',
    sorts: true,
    always: true,
    narrow: true,
    wide: true,
    cell: (d) => (
      <Link component={RouterLink} to={devicePath(d.name)} sx={{ fontWeight: 600 }}>
        <Name of={d.name} />
      </Link>
    ),
  },
  { field: 'site', title: 'Site', sorts: true, cell: (d) => <Foreign>{d.site}</Foreign> },
  { field: 'address', title: 'Address', sorts: true, cell: (d) => d.address },
  { field: 'family', title: 'Family', sorts: true, cell: (d) => d.family || 'monitored only' },
  {
    field: 'expires_at',
    title: 'Expires',
    sorts: true,
    cell: (d) => <span style={{ whiteSpace: 'nowrap' }}>{day(d.expires_at)}</span>,
  },
  { field: 'owner', title: 'Owner', sorts: true, cell: (d) => <Foreign>{d.owner}</Foreign> },
  { field: 'tags', title: 'Tags', sorts: true, cell: (d) => <Foreign>{d.tags.join(' ')}</Foreign> },
]
