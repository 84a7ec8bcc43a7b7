import Box from '@mui/material/Box'
import Tab from '@mui/material/Tab'
import Tabs from '@mui/material/Tabs'
import { useQuery } from '@tanstack/react-query'
import type { ComponentType } from 'react'
import { Link, useParams } from 'react-router'
import { settingsQuery } from '../../api/queries'
import { Heading } from '../../parts/Heading'
import { Loaded } from '../../parts/Loaded'
import { Facts, Panel, Stack } from '../../parts/Panel'
import { Account } from '../account/Account'
import { Nowhere } from '../nowhere/Nowhere'
import { Anchors } from './Anchors'
import { Credentials } from './Credentials'
import { Rules } from './Rules'
import { Signers } from './Signers'
import { Sites } from './Sites'
import { When } from '../../parts/When'

const parts: Record<string, { title: string; show: ComponentType }> = {
  policy: { title: 'Policy', show: Rules },
  signers: { title: 'Signers', show: Signers },
  sites: { title: 'Sites', show: Sites },
  credentials: { title: 'Credentials', show: Credentials },
  roots: { title: 'Trusted roots', show: Anchors },
  account: { title: 'Your account', show: Account },
  service: { title: 'Service', show: Service },
}

/** Settings is what holds for the whole fleet, part by part, and one's own account. */
export function Settings() {
  const { part = 'policy' } = useParams()
  const shown = parts[part]
  if (!shown) return <Nowhere />
  const Show = shown.show
  return (
    <Stack>
      <Heading title="Settings" tab={shown.title} />
      <Tabs
        value={part}
        variant="scrollable"
        allowScrollButtonsMobile
        aria-label="Settings"
        sx={{ minHeight: 40, borderBottom: 1, borderColor: 'divider' }}
      >
        {Object.entries(parts).map(([name, p]) => (
          <Tab
            key={name}
            value={name}
            label={p.title}
            component={Link}
            to={`/settings/${name}`}
            sx={{ minHeight: 40 }}
          />
        ))}
      </Tabs>
      <Box>
        <Show />
      </Box>
    </Stack>
  )
}

function Service() {
  const set = useQuery(settingsQuery)
  return (
    <Panel title="Service">
      <Loaded query={set}>
        {(s) => (
          <Facts
            rows={[
              ['Version', s.version],
              ['Folder', s.folder],
              ['Reads the fleet', s.read_every],
              ['Started', <When at={s.started_at} />],
              ['Its own certificate', 'is replaced like any other: it stands in the list of devices'],
              ['Built of', <a href="/api/v1/licences">works of others, with their licences</a>],
            ]}
          />
        )}
      </Loaded>
    </Panel>
  )
}
