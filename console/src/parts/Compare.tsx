import Box from '@mui/material/Box'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import type { ReactNode } from 'react'
import { certificateQuery } from '../api/queries'
import { Foreign } from './Foreign'
import { Print } from './Print'
import { momentHere } from './words'

type Side = { title: string; sha256: string; none?: string }

/**
 * Compare shows two certificates side by side, their fields in the order in which people compare them, and who trusts
 * them. What differs is marked.
 */
export function Compare({ left, right }: { left: Side; right: Side }) {
  const a = useQuery(certificateQuery(left.sha256)).data
  const b = useQuery(certificateQuery(right.sha256)).data
  const rows: [string, (c: NonNullable<typeof a>) => string, ((c: NonNullable<typeof a>) => ReactNode)?][] = [
    ['Subject', (c) => c.certificate.subject],
    ['Issuer', (c) => c.certificate.issuer],
    ['From', (c) => momentHere(c.certificate.not_before)],
    ['To', (c) => momentHere(c.certificate.not_after)],
    ['Serial', (c) => c.certificate.serial],
    [
      'SHA-256',
      (c) => c.certificate.sha256,
      (c) => <Print text={c.certificate.sha256} what="the SHA-256 of the certificate" />,
    ],
    ['SHA-1', (c) => c.certificate.sha1],
    ['Names', (c) => c.certificate.names.join(', ')],
    ['Key', (c) => `${c.certificate.key}, ${c.certificate.signature}`],
    ['Uses', (c) => c.certificate.uses.join(', ')],
    [
      'Trusted by',
      (c) =>
        c.trust
          .filter((t) => t.trusted)
          .map((t) => t.trust_group)
          .join(', ') || 'nobody',
    ],
  ]
  return (
    <Box
      component="table"
      sx={{
        width: '100%',
        borderCollapse: 'collapse',
        tableLayout: 'fixed',
        '& th, & td': {
          textAlign: 'left',
          verticalAlign: 'top',
          p: 0.75,
          borderBottom: 1,
          borderColor: 'divider',
          fontSize: 13,
        },
      }}
    >
      <thead>
        <tr>
          <Box component="th" sx={{ width: { xs: 76, sm: 100 } }}>
            <Box component="span" sx={{ position: 'absolute', left: -9999 }}>
              Field
            </Box>
          </Box>
          <th scope="col">{left.title}</th>
          <th scope="col">{right.title}</th>
        </tr>
      </thead>
      <tbody>
        {rows.map(([name, of, draw]) => {
          const differs = a && b && of(a) !== of(b)
          return (
            <tr key={name} data-differs={differs}>
              <Box component="th" scope="row" sx={{ fontWeight: 400, color: 'text.secondary' }}>
                {name}
              </Box>
              {[[a, left] as const, [b, right] as const].map(([c, side], i) => (
                <Box
                  component="td"
                  key={i}
                  sx={{ fontWeight: differs && i === 1 ? 600 : 400, overflowWrap: 'anywhere' }}
                >
                  {c ? (
                    draw ? (
                      draw(c)
                    ) : (
                      <Foreign>{of(c) || '–'}</Foreign>
                    )
                  ) : (
                    <Typography sx={{ color: 'text.secondary' }}>
                      {side.sha256 ? '…' : (side.none ?? 'not known yet')}
                    </Typography>
                  )}
                </Box>
              ))}
            </tr>
          )
        })}
      </tbody>
    </Box>
  )
}
