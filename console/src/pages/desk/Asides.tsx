import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { Link as RouterLink } from 'react-router'
import { api, take, type Schemas } from '../../api/client'
import { asidesQuery, queryClient } from '../../api/queries'
import { Panel } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { moment } from '../../parts/words'

/** Asides shows the leaves that came and that nobody waits for, with who is nearest to them. */
export function Asides() {
  const all = useQuery(asidesQuery)
  if (all.error) return <Problem error={all.error} />
  if (!all.data?.length) return null
  return (
    <Panel title="Certificates without a request">
      <Typography sx={{ color: 'text.secondary', pb: 1 }}>They match no pending request. They are kept until their request arrives or you delete them.</Typography>
      {all.data.map((a) => (
        <Lying key={a.certificate.sha256} a={a} />
      ))}
    </Panel>
  )
}

function Lying({ a }: { a: Schemas['Aside'] }) {
  const remove = useMutation({
    mutationFn: () => take(api.DELETE('/api/v1/asides/{sha256}', { params: { path: { sha256: a.certificate.sha256 } } })),
    onSuccess: () => queryClient.invalidateQueries({ queryKey: ['asides'] }),
  })
  return (
    <Box sx={{ display: 'flex', gap: 2, justifyContent: 'space-between', alignItems: 'start', py: 0.75, borderTop: 1, borderColor: 'divider', flexWrap: 'wrap' }}>
      <Box sx={{ minWidth: 0 }}>
        <Typography sx={{ fontWeight: 600, overflowWrap: 'anywhere' }}>
          {a.certificate.name}
          <Box component="span" sx={{ fontWeight: 400, color: 'text.secondary' }}>
            {' '}
            signed by {a.certificate.issuer}, came {moment(a.came_at)} with {a.came_by}
          </Box>
        </Typography>
        {a.near.length === 0 && <Typography variant="body2">Nobody here bears one of its names.</Typography>}
        {a.near.map((n) => (
          <Typography key={n.device + n.slot} variant="body2" sx={{ overflowWrap: 'anywhere' }}>
            {n.replacement ? (
              <>
                <Link component={RouterLink} to={`/replacements/${n.replacement}`}>
                  {n.replacement} {n.device}/{n.slot}
                </Link>{' '}
                waits for {n.names.join(', ')}, with another key
              </>
            ) : (
              <>
                <Link component={RouterLink} to={`/slots/${encodeURIComponent(n.device)}/${encodeURIComponent(n.slot)}`}>
                  {n.device}/{n.slot}
                </Link>{' '}
                is known under {n.names.join(', ')}, and no request of it waits
              </>
            )}
          </Typography>
        ))}
        {remove.error && <Problem error={remove.error} />}
      </Box>
      <Button size="small" color="error" variant="outlined" disabled={remove.isPending} onClick={() => remove.mutate()}>
        Delete
      </Button>
    </Box>
  )
}
