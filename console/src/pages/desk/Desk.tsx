import { number } from '../../parts/words'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import { useQuery } from '@tanstack/react-query'
import { Link as RouterLink, useSearchParams } from 'react-router'
import Box from '@mui/material/Box'
import Tab from '@mui/material/Tab'
import Tabs from '@mui/material/Tabs'
import { api, take, type Replacement, type Schemas } from '../../api/client'
import { parcelsList, pendingList } from '../../api/lists'
import { signersQuery, statusQuery, useChange } from '../../api/queries'
import { DropZone } from '../../parts/DropZone'
import { Heading } from '../../parts/Heading'
import { List } from '../../parts/list/List'
import type { Column } from '../../parts/list/columns'
import { useState } from 'react'
import { none, type Choice } from '../../parts/list/choice'
import { May, useMay } from '../../parts/May'
import { Quiet, Stack } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { Term } from '../../parts/Term'
import { Unmatched } from './Unmatched'
import { ParcelRow } from './ParcelRow'
import { Name } from '../../parts/Name'
import { AsCommand } from '../../parts/AsCommand'
import { command } from '../../parts/command'

const columns: Column<Replacement>[] = [
  {
    field: 'id',
    title: 'Replacement',
    always: true,
    narrow: true,
    wide: true,
    cell: (r) => (
      <Link component={RouterLink} to={`/replacements/${r.id}`}>
        {r.id} <Name of={`${r.device}/${r.slot}`} />
      </Link>
    ),
  },
  { field: 'signer', title: 'Signer', narrow: true, cell: (r) => r.signer },
  {
    field: 'parcel',
    title: 'Parcel',
    narrow: true,
    cell: (r) => (
      <>
        {r.parcel ? `in parcel ${r.parcel}` : 'not packed yet'}
        {r.waiting_for === 'validation' && ', its domain is to be proven'}
      </>
    ),
  },
]

/** Desk is where requests go out to a person and certificates come back. */
export function Desk() {
  const [search, setSearch] = useSearchParams()
  const parcels = search.get('of') === 'parcels'
  const known = useQuery(signersQuery).data ?? []
  const operator = useMay('operator')
  const [chosen, setChosen] = useState<Choice>(none)
  const parcelColumns: Column<Schemas['Parcel']>[] = [
    {
      field: 'id',
      title: 'Parcel',
      always: true,
      narrow: true,
      wide: true,
      cell: (p) => <ParcelRow p={p} signer={known.find((s) => s.name === p.signer)} />,
    },
  ]
  return (
    <Stack>
      <Heading title="Signing desk" tab="Desk" term={<Term of="parcel" />}>
        <May role="operator" what="Packing and taking in">
          <Pack
            chosen={chosen}
            packed={() => {
              setChosen(none)
              setSearch({ of: 'parcels' })
            }}
          />
        </May>
      </Heading>
      <Tabs
        value={parcels ? 'parcels' : 'pending'}
        onChange={(_, to: string) => setSearch(to === 'parcels' ? { of: 'parcels' } : {})}
        aria-label="Lists"
        sx={{ minHeight: 40, borderBottom: 1, borderColor: 'divider' }}
      >
        <Tab value="pending" label="Pending requests" sx={{ minHeight: 40 }} />
        <Tab value="parcels" label="Parcels" sx={{ minHeight: 40 }} />
      </Tabs>
      {parcels ? (
        <List
          key="parcels"
          height={180}
          forms
          list={parcelsList}
          filter={{}}
          columns={parcelColumns}
          id={(p) => p.id}
          empty="No parcels yet. Pack the pending requests into one."
        />
      ) : (
        <List
          key="pending"
          height={180}
          list={pendingList}
          filter={{}}
          columns={columns}
          id={(r) => r.id}
          empty="No pending requests. Replace a slot with the signer desk to create one."
          choosable={(r) => !r.parcel}
          {...(operator && { choice: chosen, choose: (of: Choice) => setChosen(of) })}
        />
      )}
      {operator && <DropZone />}
      <Unmatched />
    </Stack>
  )
}

/** Pack packs what is not packed yet, or what was chosen of it, for each signer who waits for some. */
function Pack({ chosen, packed }: { chosen: Choice; packed: () => void }) {
  const unpacked = useQuery({ ...statusQuery }).data?.unpacked ?? {}
  const pack = useChange({
    of: 'parcels',
    do: (signer: string) => take(api.POST('/api/v1/parcels', { body: { signer, replacements: [...chosen.names] } })),
    done: (p) => {
      window.location.assign(`/api/v1/parcels/${p.id}/archive`)
      packed()
    },
  })
  const signers = Object.entries(unpacked).filter(([, n]) => n > 0)
  return (
    <Box>
      {signers.length === 0 && <Quiet>There are no requests to pack.</Quiet>}
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1 }}>
        {signers.map(([signer, n]) => (
          <Button key={signer} variant="contained" disabled={pack.isPending} onClick={() => pack.mutate(signer)}>
            Pack {chosen.names.size > 0 ? `the ${number(chosen.names.size)} chosen` : number(n)} into a parcel
            {signer === 'desk' ? '' : ` for ${signer}`}
          </Button>
        ))}
      </Box>
      {signers.length > 0 && (
        <AsCommand
          command={signers
            .map(([signer]) => command('parcel', 'pack', ...chosen.names, '--signer', signer, '--out', `${signer}.zip`))
            .join(' && ')}
        />
      )}
      {pack.error && <Problem error={pack.error} />}
    </Box>
  )
}
