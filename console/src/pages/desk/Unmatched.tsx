import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink } from 'react-router'
import { api, take, type Schemas } from '../../api/client'
import { unmatchedQuery, useChange } from '../../api/queries'
import { Confirm } from '../../parts/Confirm'
import { Foreign } from '../../parts/Foreign'
import { May } from '../../parts/May'
import { Panel } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { When } from '../../parts/When'
import { Name } from '../../parts/Name'
import { command } from '../../parts/command'

/** Unmatched shows the leaves that came and that nobody waits for, with who is nearest to them. */
export function Unmatched() {
  const all = useQuery(unmatchedQuery)
  if (all.error && !all.data) return <Problem error={all.error} />
  if (!all.data?.length) return null
  return (
    <Panel title="Certificates without a request">
      <Typography sx={{ color: 'text.secondary', pb: 1 }}>
        They match no pending request. They are kept until their request arrives or you delete them.
      </Typography>
      {all.data.map((a) => (
        <Lying key={a.certificate.sha256} a={a} />
      ))}
    </Panel>
  )
}

function Lying({ a }: { a: Schemas['Unmatched'] }) {
  const [sure, setSure] = useState(false)
  const remove = useChange({
    of: 'unmatched',
    do: () => take(api.DELETE('/api/v1/unmatched/{sha256}', { params: { path: { sha256: a.certificate.sha256 } } })),
    done: () => setSure(false),
  })
  return (
    <Box
      sx={{
        display: 'flex',
        gap: 2,
        justifyContent: 'space-between',
        alignItems: 'start',
        py: 0.75,
        borderTop: 1,
        borderColor: 'divider',
        flexWrap: 'wrap',
      }}
    >
      <Box sx={{ minWidth: 0 }}>
        <Typography sx={{ fontWeight: 600, overflowWrap: 'anywhere' }}>
          <Foreign>{a.certificate.name}</Foreign>
          <Box component="span" sx={{ fontWeight: 400, color: 'text.secondary' }}>
            {' '}
            signed by <Foreign>{a.certificate.issuer}</Foreign>, came <When at={a.came_at} /> with{' '}
            <bdi>{a.came_by}</bdi>
          </Box>
        </Typography>
        {a.near.length === 0 && <Typography variant="body2">No slot here has one of its names.</Typography>}
        {a.near.map((n) => (
          <Typography key={n.device + n.slot} variant="body2" sx={{ overflowWrap: 'anywhere' }}>
            {n.replacement ? (
              <>
                <Link component={RouterLink} to={`/replacements/${n.replacement}`}>
                  {n.replacement} <Name of={`${n.device}/${n.slot}`} />
                </Link>{' '}
                waits for {n.names.join(', ')}, with another key
              </>
            ) : (
              <>
                <Link
                  component={RouterLink}
                  to={`/slots/${encodeURIComponent(n.device)}/${encodeURIComponent(n.slot)}`}
                >
                  <Name of={`${n.device}/${n.slot}`} />
                </Link>{' '}
                is known under {n.names.join(', ')}, and no request of it waits
              </>
            )}
          </Typography>
        ))}
      </Box>
      <May role="operator">
        <Button size="small" color="error" variant="outlined" onClick={() => setSure(true)}>
          Delete
        </Button>
      </May>
      {sure && (
        <Confirm
          question={`Delete the certificate of ${a.certificate.name}?`}
          yes="Delete"
          pending={remove.isPending}
          error={remove.error}
          act={() => remove.mutate()}
          close={() => setSure(false)}
          command={command('unmatched', 'remove', a.certificate.sha256)}
        >
          <Typography>
            It answers no request that waits. When its request comes later, the signer has to send it once more.
          </Typography>
        </Confirm>
      )}
    </Box>
  )
}
