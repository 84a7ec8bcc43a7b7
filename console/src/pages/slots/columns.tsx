import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import { Link as RouterLink } from 'react-router'
import type { Slot } from '../../api/client'
import { ConditionMark } from '../../parts/Condition'
import { Foreign } from '../../parts/Foreign'
import type { Column } from '../../parts/list/columns'
import { day, days, slotPath } from '../../parts/words'

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
        <bdi>{s.device}</bdi>
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
    cell: (s) => (
      <Box component="span" sx={{ whiteSpace: 'nowrap' }}>
        {s.condition === 'factory' ? 'now' : day(s.act_by)}
      </Box>
    ),
  },
  { field: 'finding', title: 'Worst finding', wide: true, cell: (s) => <Foreign>{s.findings[0]?.what}</Foreign> },
]
