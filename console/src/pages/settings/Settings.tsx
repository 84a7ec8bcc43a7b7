import Box from '@mui/material/Box'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { anchorsQuery, settingsQuery } from '../../api/queries'
import { mono } from '../../app/theme'
import { Facts, Panel } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { day, moment } from '../../parts/words'
import { Credentials } from './Credentials'
import { Password } from './Password'
import { Rules } from './Rules'
import { Signers } from './Signers'
import { Sites } from './Sites'

/** Settings is what holds for the whole fleet: rules, signers, sites, credentials and trusted roots; and one's own password. */
export function Settings() {
  const set = useQuery(settingsQuery)
  const anchors = useQuery(anchorsQuery)
  if (set.error) return <Problem error={set.error} />
  return (
    <Box sx={{ display: 'grid', gap: 2 }}>
      <Typography variant="h1">Settings</Typography>
      <Rules />
      <Signers />
      <Sites />
      <Credentials />
      <Panel title="Roots that the fleet trusts">
        {(anchors.data ?? []).map((a) => (
          <Box key={a.sha256} sx={{ py: 0.5 }}>
            <Typography sx={{ fontWeight: 600 }}>{a.subject}</Typography>
            <Typography variant="body2" sx={{ color: 'text.secondary', overflowWrap: 'anywhere' }}>
              until {day(a.not_after)}, SHA-256 <span style={{ fontFamily: mono }}>{a.sha256}</span>
            </Typography>
          </Box>
        ))}
        <Typography variant="body2" sx={{ color: 'text.secondary', pt: 1 }}>
          Another one comes in from a terminal: <code>freshseal audience add root.pem</code>, or with a pile on the desk.
        </Typography>
      </Panel>
      <Password />
      {set.data && (
        <Panel title="Service">
          <Facts
            rows={[
              ['Version', set.data.version],
              ['Folder', set.data.folder],
              ['Reads the fleet', set.data.read_every],
              ['Started', moment(set.data.started_at)],
              ['Its own certificate', 'is replaced like any other: it stands in the list of devices'],
            ]}
          />
        </Panel>
      )}
    </Box>
  )
}
