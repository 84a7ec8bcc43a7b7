import Button from '@mui/material/Button'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { devicesList } from '../../api/lists'
import { ConditionFilter } from '../../parts/ConditionFilter'
import { Heading } from '../../parts/Heading'
import { Filters } from '../../parts/list/Filters'
import { List } from '../../parts/list/List'
import { Views } from '../../parts/list/Views'
import { none, type Choice } from '../../parts/list/choice'
import { useMay } from '../../parts/May'
import { Stack } from '../../parts/Panel'
import { TextFilter } from '../../parts/TextFilter'
import { useFilter } from '../../parts/useFilter'
import { devicePath } from '../../parts/words'
import { AddDevice } from './AddDevice'
import { ChosenDevices } from './ChosenDevices'
import { deviceColumns } from './columns'
import { ImportDevices } from './ImportDevices'

/** Devices lists the boxes of the fleet; several can be chosen and changed together. */
export function Devices() {
  const [filter, set] = useFilter(...devicesList.filters)
  const [choice, setChoice] = useState<{ of: Choice; total: number | undefined }>({ of: none, total: undefined })
  const place = JSON.stringify(filter)
  const [chosenIn, setChosenIn] = useState(place)
  if (chosenIn !== place) {
    setChosenIn(place)
    if (choice.of.all) setChoice({ of: none, total: undefined })
  }
  const [dialog, setDialog] = useState<'add' | 'import' | null>(null)
  const navigate = useNavigate()
  const admin = useMay('admin')
  return (
    <Stack>
      <Heading title="Devices" tab="Devices">
        <TextFilter label="Search in this list" value={filter.text ?? ''} set={(text) => set({ text })} />
        <Views page="devices" />
        {admin && (
          <>
            <Button variant="contained" onClick={() => setDialog('add')}>
              Add a device
            </Button>
            <Button variant="outlined" onClick={() => setDialog('import')}>
              Import
            </Button>
            <Button variant="outlined" href="/api/v1/export" download="devices.csv">
              Export
            </Button>
          </>
        )}
      </Heading>
      <ConditionFilter chosen={filter.condition} choose={(condition) => set({ condition })} />
      <Filters filter={filter} set={set} by={['site', 'family', 'tag', 'owner']} />
      {admin && (
        <ChosenDevices
          choice={choice.of}
          total={choice.total}
          filter={filter}
          choose={(of) => setChoice({ ...choice, of })}
        />
      )}
      <List
        list={devicesList}
        filter={filter}
        columns={deviceColumns}
        id={(d) => d.name}
        open={(d) => void navigate(devicePath(d.name))}
        empty={
          Object.keys(filter).length > 0
            ? 'No device fits the filter.'
            : 'There is no device yet. Add one, or import a CSV file.'
        }
        {...(admin && {
          choice: choice.of,
          choose: (of: Choice, total: number | undefined) => setChoice({ of, total }),
        })}
      />
      {dialog === 'add' && <AddDevice close={() => setDialog(null)} />}
      {dialog === 'import' && <ImportDevices close={() => setDialog(null)} />}
    </Stack>
  )
}
