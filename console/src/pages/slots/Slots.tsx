import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink, useNavigate, useSearchParams } from 'react-router'
import { slotsList } from '../../api/lists'
import { statusQuery } from '../../api/queries'
import { ConditionFilter } from '../../parts/ConditionFilter'
import { Heading } from '../../parts/Heading'
import { Filters } from '../../parts/list/Filters'
import { List } from '../../parts/list/List'
import { Views } from '../../parts/list/Views'
import { none, type Choice } from '../../parts/list/choice'
import { useMay } from '../../parts/May'
import { Stack } from '../../parts/Panel'
import { Term } from '../../parts/Term'
import { TextFilter } from '../../parts/TextFilter'
import { useFilter } from '../../parts/useFilter'
import { slotPath } from '../../parts/words'
import { ChosenSlots } from './ChosenSlots'
import { slotColumns } from './columns'

/** Slots lists the fleet, worst condition first. The filter stands in the address, so that it can be shared. */
export function Slots() {
  const status = useQuery(statusQuery)
  const [filter, set] = useFilter(...slotsList.filters)
  const [search] = useSearchParams()
  const [choice, setChoice] = useState<{ of: Choice; total: number | undefined }>({ of: none, total: undefined })
  const place = JSON.stringify(filter)
  const [chosenIn, setChosenIn] = useState(place)
  if (chosenIn !== place) {
    setChosenIn(place)
    if (choice.of.all) setChoice({ of: none, total: undefined }) // all that fit another filter are others
  }
  const navigate = useNavigate()
  const operator = useMay('operator')
  const sheet = new URLSearchParams(filter)
  for (const name of ['sort', 'desc']) if (search.get(name)) sheet.set(name, search.get(name) ?? '')
  return (
    <Stack>
      <Heading title="Slots" tab="Slots" term={<Term of="slot" />}>
        <TextFilter label="Search in this list" value={filter.text ?? ''} set={(text) => set({ text })} />
        <Views page="slots" />
      </Heading>
      <ConditionFilter
        chosen={filter.condition}
        choose={(condition) => set({ condition })}
        counts={status.data?.conditions}
      />
      <Filters
        filter={filter}
        set={set}
        by={['site', 'family', 'tag', 'owner', 'signer']}
        more={['issuer', 'key_type', 'signature']}
      />
      {operator && (
        <ChosenSlots
          choice={choice.of}
          total={choice.total}
          filter={filter}
          choose={(of) => setChoice({ ...choice, of })}
        />
      )}
      <List
        list={slotsList}
        filter={filter}
        columns={slotColumns}
        id={(s) => `${s.device}/${s.name}`}
        open={(s) => void navigate(slotPath(s.device, s.name))}
        empty={
          Object.keys(filter).length > 0 ? (
            'No slot fits the filter.'
          ) : (
            <>
              There is no device yet.{' '}
              <Link component={RouterLink} to="/devices">
                Add the first one.
              </Link>
            </>
          )
        }
        {...(operator && {
          choice: choice.of,
          choose: (of: Choice, total: number | undefined) => setChoice({ of, total }),
        })}
        tools={
          <Button size="small" color="inherit" href={`/api/v1/slots.csv?${sheet.toString()}`} download="slots.csv">
            Download as CSV
          </Button>
        }
      />
    </Stack>
  )
}
