import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Skeleton from '@mui/material/Skeleton'
import Typography from '@mui/material/Typography'
import { Suspense, lazy, useState } from 'react'
import { ConditionFilter } from '../../parts/ConditionFilter'
import { TextFilter } from '../../parts/TextFilter'
import { useFilter } from '../../parts/useFilter'
import { AddDevice } from './AddDevice'
import { ImportDevices } from './ImportDevices'
import { Selected } from './Selected'

const DeviceGrid = lazy(() => import('./DeviceGrid'))

/** Devices lists the boxes of the fleet; several can be chosen and worked on together. */
export function Devices() {
  const [filter, set] = useFilter('text', 'condition', 'site', 'family', 'tag', 'cluster')
  const [selected, select] = useState<string[]>([])
  const [dialog, setDialog] = useState<'add' | 'import' | null>(null)
  const narrowed = Object.entries(filter).filter(([name]) => name !== 'text' && name !== 'condition')
  return (
    <Box sx={{ display: 'grid', gap: 2 }}>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 2, alignItems: 'center', justifyContent: 'space-between' }}>
        <Typography variant="h1">Devices</Typography>
        <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, alignItems: 'center' }}>
          <TextFilter label="Filter by name, site, address, owner, tag" value={filter['text'] ?? ''} set={(text) => set('text', text)} />
          <Button variant="contained" onClick={() => setDialog('add')}>
            Add a device
          </Button>
          <Button variant="outlined" onClick={() => setDialog('import')}>
            Import
          </Button>
          <Button variant="outlined" component={Link} href="/api/v1/export" download="devices.csv" underline="none">
            Export
          </Button>
        </Box>
      </Box>
      <ConditionFilter chosen={filter['condition']} choose={(c) => set('condition', c)} />
      {narrowed.length > 0 && (
        <Typography>
          Only {narrowed.map(([name, value]) => `${name} “${value}”`).join(', ')}.{' '}
          <Link component="button" onClick={() => narrowed.forEach(([name]) => set(name, ''))}>
            Show all
          </Link>
        </Typography>
      )}
      <Selected names={selected} clear={() => select([])} />
      <Suspense fallback={<Skeleton variant="rounded" height={420} />}>
        <DeviceGrid filter={filter} selected={selected} select={select} />
      </Suspense>
      {dialog === 'add' && <AddDevice close={() => setDialog(null)} />}
      {dialog === 'import' && <ImportDevices close={() => setDialog(null)} />}
    </Box>
  )
}
