import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, take } from '../../api/client'
import { sessionQuery, sessionsQuery, useChange } from '../../api/queries'
import { AsCommand } from '../../parts/AsCommand'
import { Confirm } from '../../parts/Confirm'
import { Loaded } from '../../parts/Loaded'
import { Panel, Quiet, Stack } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { command } from '../../parts/command'
import { Password } from '../settings/Password'
import { SessionRow } from './SessionRow'
import { Recovery, SetUp } from './SetUp'

/** Account is how one signs in oneself: second factor, open sessions and password. */
export function Account() {
  const sessions = useQuery(sessionsQuery(false))
  return (
    <Stack>
      <SecondFactor />
      <Panel title="Where you are signed in" term="session">
        <Loaded query={sessions}>{(list) => list.map((s) => <SessionRow key={s.id} s={s} />)}</Loaded>
      </Panel>
      <Password />
    </Stack>
  )
}

function SecondFactor() {
  const session = useQuery(sessionQuery)
  const [sure, setSure] = useState(false)
  const [codes, setCodes] = useState<string[]>()
  const renew = useMutation({
    mutationFn: () => take(api.POST('/api/v1/factor/recovery')),
    onSuccess: (made) => setCodes(made.codes),
  })
  const remove = useChange({
    of: 'session',
    do: () => take(api.DELETE('/api/v1/factor')),
    done: () => setSure(false),
  })
  return (
    <Panel title="Second factor" term="factor">
      {codes ? (
        <Recovery codes={codes} done={() => setCodes(undefined)} />
      ) : session.data?.factor ? (
        <>
          <Typography>You sign in with your password and a code of your authenticator.</Typography>
          <Box sx={{ mt: 2, display: 'flex', gap: 1, flexWrap: 'wrap' }}>
            <Button variant="outlined" disabled={renew.isPending} onClick={() => renew.mutate()}>
              Make new recovery codes
            </Button>
            <Button variant="outlined" color="error" onClick={() => setSure(true)}>
              Remove the authenticator
            </Button>
          </Box>
          <AsCommand command={command('factor', 'recovery')} what="Make new recovery codes" />
          {renew.error && <Problem error={renew.error} />}
          <SetUp instead made={setCodes} />
        </>
      ) : (
        <>
          <Quiet>You sign in with your password alone.</Quiet>
          <SetUp made={setCodes} />
        </>
      )}
      {sure && (
        <Confirm
          question="Remove your authenticator?"
          yes="Remove it"
          pending={remove.isPending}
          error={remove.error}
          act={() => remove.mutate()}
          close={() => setSure(false)}
          command={command('factor', 'remove')}
        >
          <Typography>You sign in with your password alone from then on. Your other sessions end.</Typography>
        </Confirm>
      )}
    </Panel>
  )
}
