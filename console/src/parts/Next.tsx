import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import { Link as RouterLink, useLocation } from 'react-router'
import type { Schemas } from '../api/client'

type Action = Schemas['Action']
type Place = { label: string; to: string }

const list = (label: string, to: string) => () => ({ label, to })
const replacement = (label: string) => (id: string) => ({ label: `${label} ${id}`, to: `/replacements/${id}` })
const device = (label: string) => (name: string) => ({
  label: `${label} ${name}`,
  to: `/devices/${encodeURIComponent(name)}`,
})
const nowhere = () => undefined // said in words, at the field

/** places are where each action is done; one that is said in words alone has none. */
const places: Record<Action['do'], (about: string) => Place | undefined> = {
  'list-unmatched': list('Open the desk', '/desk'),
  'list-trust-groups': list('Open the trusted roots', '/settings/roots'),
  'list-authorities': nowhere,
  'list-channels': list('Open the notices', '/notices'),
  'list-notice-rules': list('Open the notices', '/notices'),
  'list-credentials': list('Open the credentials', '/settings/credentials'),
  'list-devices': list('List the devices', '/devices'),
  'list-parcels': list('Open the desk', '/desk'),
  'list-pins': list('List the slots', '/slots'),
  'list-procedures': list('List the families', '/families'),
  'list-replacements': list('List the replacements', '/replacements'),
  'list-signers': list('Open the signers', '/settings/signers'),
  'list-sites': list('Open the sites', '/settings/sites'),
  'list-slots': list('List the slots', '/slots'),
  'list-discoveries': list('Open the discoveries', '/discovery'),
  'list-sessions': list('Open your account', '/settings/account'),
  confirm: nowhere,
  'set-up-factor': list('Open your account', '/settings/account'),
  'list-tasks': list('List what waits for a person', '/tasks'),
  'list-tokens': list('Open people and tokens', '/people'),
  'list-users': list('Open people and tokens', '/people'),
  'show-trust-group': list('Open the trusted roots', '/settings/roots'),
  'show-procedure': list('Open the families', '/families'),
  'show-replacement': replacement('Open'),
  'show-slot': (slot) => ({ label: `Open ${slot}`, to: `/slots/${slot}` }),
  'show-task': list('List what waits for a person', '/tasks'),
  'accept-answer': replacement('Look at the answer of'),
  approve: replacement('Approve'),
  cancel: replacement('Cancel'),
  clear: replacement('Clear'),
  'close-neither': replacement('Close'),
  'close-new': replacement('Close'),
  'close-old': replacement('Close'),
  resume: replacement('Resume'),
  'resume-again': replacement('Resume'),
  'resume-done': replacement('Resume'),
  'resume-not-done': replacement('Resume'),
  retry: replacement('Retry'),
  revert: replacement('Revert'),
  replace: (slot) => ({ label: `Replace ${slot}`, to: `/slots/${slot}` }),
  'add-root': list('Open the trusted roots', '/settings/roots'),
  'allow-weak': list('Open the policies', '/settings/policy'),
  'change-device': device('Change'),
  'change-site': list('Open the sites', '/settings/sites'),
  'finish-task': list('List what waits for a person', '/tasks'),
  'go-on': replacement('Open'),
  'keep-keys': list('Open the policies', '/settings/policy'),
  'pack-parcel': list('Open the desk', '/desk'),
  'replace-credential': list('Open the credentials', '/settings/credentials'),
  'sign-in': list('Sign in', '/sign-in'),
  'take-in': list('Open the desk', '/desk'),
  'take-task': list('List what waits for a person', '/tasks'),
  'try-device': device('Try'),
  give: nowhere,
  'one-way': nowhere,
  unseen: nowhere,
}

/** Next says what to do next: in words, and as buttons that lead to where it is done. */
export function Next({ say, actions = [] }: { say?: string; actions?: Action[] }) {
  const { pathname } = useLocation()
  const seen = new Map<string, Place>()
  for (const a of actions) {
    const place = places[a.do](a.about ?? '')
    if (place && place.to !== pathname && !seen.has(place.to)) seen.set(place.to, place)
  }
  if (!say && seen.size === 0) return null
  return (
    <Box sx={{ display: 'flex', flexWrap: 'wrap', alignItems: 'center', columnGap: 1 }}>
      {say && (
        <span>
          <strong>Next:</strong> {say}
        </span>
      )}
      {[...seen.values()].map((p) => (
        <Button
          key={p.to}
          component={RouterLink}
          to={p.to}
          size="small"
          color="inherit"
          variant="outlined"
          sx={{ py: 0 }}
        >
          {p.label}
        </Button>
      ))}
    </Box>
  )
}
