import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { Link as RouterLink } from 'react-router'
import { api, take, type Replacement } from '../../api/client'
import { parcelsQuery, queryClient, replacementsQuery } from '../../api/queries'
import { Panel } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { DropZone } from './DropZone'
import { ParcelRow } from './ParcelRow'

/** Desk is where requests go out to a person and certificates come back. */
export function Desk() {
  const all = useQuery(replacementsQuery({ waiting_for: 'signer' }))
  const parcels = useQuery(parcelsQuery)
  const pack = useMutation({
    mutationFn: (signer: string) => take(api.POST('/api/v1/parcels', { body: { signer } })),
    onSuccess: (p) => {
      void queryClient.invalidateQueries()
      window.location.assign(`/api/v1/parcels/${p.id}/archive`)
    },
  })
  if (all.error) return <Problem error={all.error} again={() => void all.refetch()} />
  const waiting = (all.data ?? []).filter((r) => r.state === 'waiting' && r.waiting_for === 'signer')
  const unpacked = waiting.filter((r) => !r.parcel)
  const signers = [...new Set([...unpacked.map((r) => r.signer), ...(unpacked.length ? [] : ['desk'])])]
  return (
    <Box sx={{ display: 'grid', gap: 2 }}>
      <Typography variant="h1">Signing desk</Typography>
      <Box sx={{ display: 'grid', gap: 2, gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: 'repeat(2, minmax(0, 1fr))' }, alignItems: 'start' }}>
        <Panel
          title="Requests that wait"
          action={
            <Box sx={{ display: 'flex', gap: 1, flexWrap: 'wrap', justifyContent: 'flex-end' }}>
              {signers.map((signer) => {
                const n = unpacked.filter((r) => r.signer === signer).length
                return (
                  <Button key={signer} size="small" variant="contained" disabled={n === 0 || pack.isPending} onClick={() => pack.mutate(signer)}>
                    Pack {n || ''} into a parcel{signer === 'desk' ? '' : ` for ${signer}`}
                  </Button>
                )
              })}
            </Box>
          }
        >
          {pack.error && <Problem error={pack.error} />}
          {waiting.length === 0 ? (
            <Typography sx={{ color: 'text.secondary' }}>None. Replace a slot with the signer desk, and its request waits here.</Typography>
          ) : (
            waiting.map((r) => <Waiting key={r.id} r={r} />)
          )}
        </Panel>
        <Panel title="Parcels">
          {(parcels.data ?? []).length === 0 && <Typography sx={{ color: 'text.secondary' }}>None yet.</Typography>}
          {(parcels.data ?? []).map((p) => (
            <ParcelRow key={p.id} p={p} />
          ))}
        </Panel>
      </Box>
      <DropZone />
    </Box>
  )
}

function Waiting({ r }: { r: Replacement }) {
  return (
    <Box sx={{ display: 'flex', justifyContent: 'space-between', gap: 1, py: 0.5, flexWrap: 'wrap' }}>
      <Link component={RouterLink} to={`/replacements/${r.id}`} sx={{ overflowWrap: 'anywhere' }}>
        {r.id} {r.device}/{r.slot}
      </Link>
      <Box component="span" sx={{ color: 'text.secondary' }}>
        {r.parcel ? `in parcel ${r.parcel}` : 'not packed yet'}
      </Box>
    </Box>
  )
}
