import Button from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import { api, take, type Schemas } from '../../api/client'
import { useChange } from '../../api/queries'
import { Confirm } from '../../parts/Confirm'
import { Foreign } from '../../parts/Foreign'
import { Quiet, Row } from '../../parts/Panel'
import { When } from '../../parts/When'
import { command } from '../../parts/command'

/** SessionRow is a console or a client that somebody is signed in with. */
export function SessionRow({ s, whose }: { s: Schemas['SignedIn']; whose?: boolean }) {
  const [sure, setSure] = useState(false)
  const end = useChange({
    of: 'sessions',
    do: () => take(api.DELETE('/api/v1/sessions/{id}', { params: { path: { id: s.id } } })),
    done: () => setSure(false),
  })
  return (
    <Row label={s.id}>
      <Typography sx={{ fontWeight: 600, minWidth: 120 }}>
        {whose && (
          <>
            <bdi>{s.user}</bdi>,{' '}
          </>
        )}
        {s.kind}
        {s.own && ' (this one)'}
      </Typography>
      <Quiet grow>
        by {s.how}
        {s.factor && ` and ${s.factor}`}
        {s.from && (
          <>
            {' '}
            from <Foreign>{s.from}</Foreign>
          </>
        )}
        , since <When at={s.started_at} />
        {s.seen_at && (
          <>
            , last used <When at={s.seen_at} />
            {s.seen_from && s.seen_from !== s.from && (
              <>
                {' '}
                from <Foreign>{s.seen_from}</Foreign>
              </>
            )}
          </>
        )}
      </Quiet>
      {!s.own && (
        <Button size="small" color="error" onClick={() => setSure(true)}>
          End the session
        </Button>
      )}
      {sure && (
        <Confirm
          question={`End this session of ${s.user}?`}
          yes="End the session"
          pending={end.isPending}
          error={end.error}
          act={() => end.mutate()}
          close={() => setSure(false)}
          command={command('session', 'remove', s.id)}
        >
          <Typography>Whoever uses it must sign in again.</Typography>
        </Confirm>
      )}
    </Row>
  )
}
