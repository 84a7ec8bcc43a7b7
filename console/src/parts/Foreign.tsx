import Box from '@mui/material/Box'
import { Fragment, type ReactNode } from 'react'
import { local } from './words'

// What acts on the order of text or hides what is there (Unicode Standard Annex 9).
// eslint-disable-next-line no-control-regex -- control characters are what is looked for
const acting = /[\u0000-\u001f\u007f-\u009f\u061c\u200b\u200e\u200f\u2028-\u202e\u2066-\u2069\ufeff]/gu

/** visible writes characters out that would hide or turn round what stands beside them. */
export function visible(text: string) {
  return text.replace(acting, (c) =>
    c === '\n' || c === '\t' ? c : `\\u${(c.codePointAt(0) ?? 0).toString(16).padStart(4, '0')}`,
  )
}

// Labels have at most 63 characters: no text, however long, is searched twice.
const hostName = /(?<![\w-])((?:[\w-]{1,63}\.){1,30}[\w-]{0,62}[a-z][\w-]{0,62}(?:\/[\w-]{1,63})?)/u

/** Labels is a host name, or a slot DEVICE/SLOT, which breaks behind its dots and never within a label. */
export function Labels({ of }: { of: string }) {
  const labels = of.split(/(?<=[./])/u)
  return labels.map((label, i) => (
    <Fragment key={i}>
      <span style={{ whiteSpace: 'nowrap' }}>{label}</span>
      {i + 1 < labels.length && <wbr />}
    </Fragment>
  ))
}

// A moment in a sentence of the service, such as 2027-03-14 09:30 UTC.
const instant = /(\d{4}-\d{2}-\d{2} \d{2}:\d{2}(?::\d{2})? UTC)/u

/** Plain is text without names, in which the local time of the browser stands behind each moment. */
function Plain({ of }: { of: string }) {
  return of.split(instant).map((part, i) => {
    const here = i % 2 === 1 && local(`${part.slice(0, 16).replace(' ', 'T')}:00Z`)
    if (i % 2 === 0) return part
    return (
      <Fragment key={i}>
        <span style={{ whiteSpace: 'nowrap' }}>{part}</span>
        {here && ' '}
        {here && <span style={{ whiteSpace: 'nowrap' }}>({here} local)</span>}
      </Fragment>
    )
  })
}

/** Foreign is text that somebody else wrote: a subject, a name, what a device printed. It changes nothing around it. */
export function Foreign({ children, strong }: { children?: string | null; strong?: boolean }): ReactNode {
  if (!children) return null
  return (
    <Box component="bdi" sx={strong ? { fontWeight: 600 } : undefined}>
      {visible(children)
        .split(hostName)
        .map((part, i) => (i % 2 === 1 ? <Labels key={i} of={part} /> : <Plain key={i} of={part} />))}
    </Box>
  )
}
