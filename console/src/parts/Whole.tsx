import Box from '@mui/material/Box'
import MuiLink from '@mui/material/Link'
import type { ReactNode } from 'react'
import { Link as RouterLink } from 'react-router'
import type { Link } from '../api/client'
import { Foreign } from './Foreign'
import { Copy, Print } from './Print'
import { When } from './When'

/** Whole is all that a certificate says, to open below its line, and the certificate itself to take along. */
export function Whole({ link }: { link: Link }) {
  const name = `${link.role}-${link.sha256.slice(0, 16)}`
  const rows: [string, ReactNode][] = [
    ['Subject', link.subject],
    ['Issuer', link.issuer],
    ['Names', link.names.join(', ')],
    [
      'Valid',
      <>
        <When at={link.not_before} /> to <When at={link.not_after} />
      </>,
    ],
    ['Uses', link.uses.join(', ')],
    ['Authority', link.authority ? 'yes' : 'no'],
    ...(link.extensions ?? []).map((e): [string, ReactNode] => [
      `${e.name}${e.critical ? ' (critical)' : ''}`,
      e.value,
    ]),
  ]
  return (
    <Box
      component="details"
      sx={{ fontSize: 13, '& summary': { cursor: 'pointer', width: 'fit-content', lineHeight: '28px' } }}
    >
      <summary>Details and download</summary>
      <Box
        component="dl"
        sx={{ display: 'grid', gridTemplateColumns: 'max-content 1fr', columnGap: 2, my: 0.5, '& dd': { m: 0 } }}
      >
        {rows.map(([title, value]) => (
          <Row key={title} title={title}>
            <Box component="span" sx={{ overflowWrap: 'anywhere' }}>
              {typeof value === 'string' ? <Foreign>{value || '–'}</Foreign> : value}
            </Box>
          </Row>
        ))}
        <Row title="Serial number">
          <Print text={link.serial} what={`the serial number of ${link.role}`} />
        </Row>
        <Row title="SHA-1">
          <Print text={link.sha1} what={`the SHA-1 of ${link.role}`} />
        </Row>
      </Box>
      <Box className="no-print" sx={{ display: 'flex', gap: 1.5, alignItems: 'baseline' }}>
        <Copy text={link.pem} what={`the PEM of ${link.role}`} label="Copy PEM" />
        <MuiLink href={`data:application/x-pem-file,${encodeURIComponent(link.pem)}`} download={`${name}.pem`}>
          Download PEM
        </MuiLink>
        <MuiLink href={`data:application/pkix-cert;base64,${base64(link.pem)}`} download={`${name}.cer`}>
          Download DER
        </MuiLink>
        <MuiLink component={RouterLink} to={`/compare?a=${link.sha256}`}>
          Compare with another
        </MuiLink>
      </Box>
    </Box>
  )
}

function Row({ title, children }: { title: string; children: ReactNode }) {
  return (
    <>
      <Box component="dt" sx={{ color: 'text.secondary' }}>
        {title}
      </Box>
      <dd>{children}</dd>
    </>
  )
}

// The armour and its line ends are what PEM puts around DER (RFC 7468).
const base64 = (pem: string) => pem.replace(/-----[^-]*-----|\s/g, '')

/** TakeChain offers the chain of a slot as files. */
export function TakeChain({ device, slot }: { device: string; slot: string }) {
  const address = `/api/v1/slots/${encodeURIComponent(device)}/${encodeURIComponent(slot)}/chain`
  return (
    <Box className="no-print" sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap', fontSize: 13 }}>
      <span>Download the chain:</span>
      <MuiLink href={`${address}?encoding=pem`} download={`${device}-${slot}.pem`}>
        PEM
      </MuiLink>
      <MuiLink href={`${address}?encoding=pkcs7`} download={`${device}-${slot}.p7b`}>
        PKCS #7
      </MuiLink>
    </Box>
  )
}
