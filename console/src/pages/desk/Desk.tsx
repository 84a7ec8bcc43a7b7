import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { Link as RouterLink } from 'react-router'
import { api, take, type Replacement } from '../../api/client'
import { parcelsQuery, queryClient, replacementsQuery, signersQuery, tasksQuery } from '../../api/queries'
import { Panel } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { day } from '../../parts/words'
import { Asides } from './Asides'
import { DropZone } from '../../parts/DropZone'
import { ParcelRow } from './ParcelRow'

/** Desk is where requests go out to a person and certificates come back. */
export function Desk() {
  const all = useQuery(replacementsQuery({ state: 'waiting' }))
  const parcels = useQuery(parcelsQuery)
  const known = useQuery(signersQuery)
  const tasks = useQuery(tasksQuery)
  const pack = useMutation({
    mutationFn: (signer: string) => take(api.POST('/api/v1/parcels', { body: { signer } })),
    onSuccess: (p) => {
      void queryClient.invalidateQueries()
      window.location.assign(`/api/v1/parcels/${p.id}/archive`)
    },
  })
  if (all.error) return <Problem error={all.error} again={() => void all.refetch()} />
  const waiting = (all.data ?? []).filter((r) => r.stage === 'sign')
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
          {(tasks.data ?? [])
            .filter((t) => t.domains?.length)
            .map((t) => (
              <Box key={t.id} sx={{ mt: 1, pl: 1, borderLeft: 3, borderColor: 'seal' }}>
                <Link component={RouterLink} to={`/replacements/${t.replacement}`}>
                  {t.name}
                </Link>
                <Typography variant="body2" sx={{ color: 'text.secondary' }}>
                  by {day(t.due_at)}, {t.taken_by ? `${t.taken_by} does it` : 'nobody does it yet'}
                </Typography>
              </Box>
            ))}
        </Panel>
        <Panel title="Parcels">
          {(parcels.data ?? []).length === 0 && <Typography sx={{ color: 'text.secondary' }}>None yet.</Typography>}
          {(parcels.data ?? []).map((p) => (
            <ParcelRow key={p.id} p={p} signer={known.data?.find((s) => s.name === p.signer)} />
          ))}
        </Panel>
      </Box>
      <DropZone />
      <Asides />
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
        {r.waiting_for === 'validation' && ', its domain is to be proven'}
      </Box>
    </Box>
  )
}
