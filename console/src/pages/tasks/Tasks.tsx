import Link from '@mui/material/Link'
import { useQuery } from '@tanstack/react-query'
import { Link as RouterLink, useNavigate } from 'react-router'
import type { Task } from '../../api/client'
import { tasksList } from '../../api/lists'
import { pinUpdatesQuery } from '../../api/queries'
import { Heading } from '../../parts/Heading'
import { List } from '../../parts/list/List'
import type { Column } from '../../parts/list/columns'
import { Panel, Quiet, Stack } from '../../parts/Panel'
import { PinUpdates } from '../../parts/PinUpdates'
import { When } from '../../parts/When'
import { Name } from '../../parts/Name'

const columns: Column<Task>[] = [
  {
    field: 'what',
    title: 'What',
    sorts: 'name',
    always: true,
    narrow: true,
    wide: true,
    cell: (t) => (
      <Link component={RouterLink} to={`/replacements/${t.replacement}`} sx={{ fontWeight: 600 }}>
        {t.name}
      </Link>
    ),
  },
  {
    field: 'device',
    title: 'Slot',
    sorts: 'slot',
    narrow: true,
    wide: true,
    cell: (t) => <Name of={`${t.device}/${t.slot}`} />,
  },
  {
    field: 'due',
    title: 'Until',
    sorts: 'due_at',
    cell: (t) => <When at={t.due_at} />,
  },
  {
    field: 'taken',
    title: 'Taken by',
    sorts: 'taken_by',
    narrow: true,
    cell: (t) => (t.taken_by ? <bdi>{t.taken_by}</bdi> : 'nobody'),
  },
]

/** Tasks lists the steps that wait for a person, oldest first. */
export function Tasks() {
  const navigate = useNavigate()
  const tell = useQuery(pinUpdatesQuery())
  return (
    <Stack>
      <Heading
        title="Tasks"
        tab="Tasks"
        below={<Quiet>Steps that only a person can do, on a device or at a signer’s desk.</Quiet>}
      />
      <List
        list={tasksList}
        filter={{}}
        columns={columns}
        id={(t) => t.id}
        open={(t) => void navigate(`/replacements/${t.replacement}`)}
        empty="Nothing waits for a person."
      />
      {tell.data && tell.data.length > 0 && (
        <Panel title="Pins pending" term="pinned by">
          <PinUpdates all={tell.data} />
        </Panel>
      )}
    </Stack>
  )
}
