import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import { Link as RouterLink } from 'react-router'
import type { Slot } from '../../api/client'
import { ConditionMark } from '../../parts/Condition'
import { Foreign } from '../../parts/Foreign'
import type { Column } from '../../parts/list/columns'
import { day, days, slotPath } from '../../parts/words'
import { Name } from '../../parts/Name'

export const slotColumns: Column<Slot>[] = [
  {
    field: 'condition',
    title: 'Condition',
    sorts: true,
    always: true,
    narrow: true,
    cell: (s) => <ConditionMark condition={s.condition} readAt={s.read_at ?? null} />,
  },
  {
    field: 'device',
    title: 'Slot',
    sorts: true,
    always: true,
    narrow: true,
    wide: true,
    cell: (s) => (
      <Link component={RouterLink} to={slotPath(s.device, s.name)} sx={{ fontWeight: 600 }}>
        <Name of={s.device} />
        <Box component="span" sx={{ color: 'text.secondary', fontWeight: 400 }}>
          /{s.name}
        </Box>
      </Link>
    ),
  },
  { field: 'site', title: 'Site', sorts: true, cell: (s) => <Foreign>{s.site}</Foreign> },
  { field: 'address', title: 'Address', sorts: true, cell: (s) => `${s.address}:${s.port}` },
  {
    field: 'expires_at',
    title: 'Expires',
    sorts: true,
    cell: (s) => (
      <Box component="span" sx={{ whiteSpace: 'nowrap' }}>
        {day(s.expires_at)}
      </Box>
    ),
  },
  {
    field: 'days',
    title: 'Left',
    sorts: 'expires_at',
    narrow: true,
    cell: (s) => (
      <Box component="span" sx={{ whiteSpace: 'nowrap' }}>
        {days(s.expires_in_days)}
      </Box>
    ),
  },
  {
    field: 'act_by',
    title: 'Act by',
    sorts: true,
    cell: (s) => (
      <Box component="span" sx={{ whiteSpace: 'nowrap' }}>
        {s.condition === 'factory' ? 'now' : day(s.act_by)}
      </Box>
    ),
  },
  { field: 'issuer', title: 'Issuer', sorts: true, extra: true, cell: (s) => <Foreign>{s.issuer}</Foreign> },
  { field: 'key_type', title: 'Key', sorts: true, extra: true, cell: (s) => <Foreign>{s.key_type}</Foreign> },
  { field: 'signature', title: 'Signature', sorts: true, extra: true, cell: (s) => <Foreign>{s.signature}</Foreign> },
  {
    field: 'finding',
    title: 'Worst finding',
    sorts: true,
    wide: true,
    cell: (s) => <Foreign>{s.findings[0]?.what}</Foreign>,
  },
]
