import Popover from '@mui/material/Popover'
import Typography from '@mui/material/Typography'

/** terms are the words of Fresh Seal, each in a sentence. */
const terms = {
  slot: 'A place on a device where a certificate sits, such as its web interface.',
  reading: 'What a slot was seen to serve on the wire at one moment, or why it could not be read.',
  condition:
    'How a slot is: the first of unreachable, expired, unexpected, factory, flawed, overdue, due and fresh that applies.',
  replacement: 'The process that gives a slot a new certificate, in stages.',
  family: 'A kind of device, described by its procedure.',
  procedure: 'How one family gets its certificate: a file in the language of Fresh Seal.',
  site: 'A place with a way in: direct, through an SSH jump host, or through a SOCKS proxy.',
  access: 'How a device is reached over one link: address, port, user, credential, pin and options.',
  pin: 'The host key or certificate that a device must show. When it shows another one, the work stops.',
  'pinned by':
    'Systems and people that recorded the fingerprint, the key or the certificate itself, and need the new value when it changes.',
  signer: 'Whoever signs requests: a person’s desk, or an authority that is reached by protocol.',
  parcel: 'A bundle of requests that goes out to a signer.',
  intake: 'The files that come back from a signer, sorted and matched.',
  anchor: 'A trusted root.',
  'trust group': 'A group of clients, and the roots that they trust.',
  batch: 'Many replacements that were started as one.',
  audit: 'Who did what and when. Each entry is chained to the one before, so that a change shows.',
  'act by':
    'The day by which work must begin: the expiry less the signer’s turnaround, the next windows and the margin.',
  policy: 'The rules for requests and dates, of the fleet, a site or a device.',
  token: 'What a program signs in with. It has a role and an expiry date.',
  factor:
    'What you have besides your password: an authenticator, an app or a device that shows a new code every 30 seconds.',
  session: 'A browser or a client that you have signed in with. It ends by itself, without use earlier.',
  role: 'Viewers see everything and change nothing; approvers approve as well; operators read, replace and match signed certificates; admins do everything.',
} as const

export type TermName = keyof typeof terms

/** Explanation is the sentence that explains a word, below the button that asked for it. */
export function Explanation({ of, at, close }: { of: TermName; at: Element; close: () => void }) {
  return (
    <Popover
      open
      anchorEl={at}
      onClose={close}
      anchorOrigin={{ vertical: 'bottom', horizontal: 'left' }}
      slotProps={{ paper: { role: 'dialog', 'aria-label': of } }}
    >
      <Typography sx={{ p: 1.5, maxWidth: 320 }}>{terms[of]}</Typography>
    </Popover>
  )
}
