import Typography from '@mui/material/Typography'
import { Heading } from '../../parts/Heading'
import { Panel, Stack } from '../../parts/Panel'
import { SetUp } from './SetUp'

/** MustSetUp is all that is shown to somebody whose role needs a second factor, until there is one. */
export function MustSetUp() {
  return (
    <Stack>
      <Heading title="Set up a second factor" tab="Second factor" />
      <Panel title="Authenticator" term="factor">
        <Typography>Your role needs a second factor for signing in. Set one up, then you can go on.</Typography>
        <SetUp />
      </Panel>
    </Stack>
  )
}
