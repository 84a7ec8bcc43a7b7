import { useState } from 'react'
import Typography from '@mui/material/Typography'
import { Heading } from '../../parts/Heading'
import { Panel, Stack } from '../../parts/Panel'
import { Recovery, SetUp } from './SetUp'

/** MustSetUp is all that is shown to somebody whose role needs a second factor, until the recovery codes are kept. */
export function MustSetUp({ done }: { done: () => void }) {
  const [codes, setCodes] = useState<string[]>()
  return (
    <Stack>
      <Heading title="Set up a second factor" tab="Second factor" />
      <Panel title="Authenticator" term="factor">
        <Typography>Your role needs a second factor for signing in. Set one up, then you can go on.</Typography>
        {codes ? <Recovery codes={codes} done={done} /> : <SetUp made={setCodes} />}
      </Panel>
    </Stack>
  )
}
