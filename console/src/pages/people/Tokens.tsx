import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useId, useState } from 'react'
import * as v from 'valibot'
import { api, take, type Schemas } from '../../api/client'
import { tokensQuery, useChange } from '../../api/queries'
import { mono } from '../../app/theme'
import { Confirm } from '../../parts/Confirm'
import { Choice, Field, Tick } from '../../parts/form/Field'
import { Form } from '../../parts/form/Form'
import { Loaded } from '../../parts/Loaded'
import { FieldGrid, Panel, Quiet, Row } from '../../parts/Panel'
import { Copy } from '../../parts/Print'
import { When } from '../../parts/When'
import { command, option } from '../../parts/command'
import { words } from '../../parts/words'
import { roleOptions } from './roles'

const tokenRoles = [{ value: 'monitor', label: 'monitor: reads the metrics' }, ...roleOptions]

/** Tokens are what programs sign in with. */
export function Tokens() {
  const tokens = useQuery(tokensQuery)
  const [made, setMade] = useState<Schemas['Token']>()
  const id = useId()
  return (
    <Panel title="API tokens" term="token">
      <Loaded query={tokens}>
        {(list) => (
          <>
            {list.length === 0 && (
              <Quiet>No tokens. A token gives a program access, with a role and an expiry date.</Quiet>
            )}
            {list.map((t) => (
              <TokenRow key={t.id} t={t} made={setMade} />
            ))}
          </>
        )}
      </Loaded>
      <Box sx={{ pt: 2 }}>
        <Form
          id={id}
          label="Create a token"
          schema={v.object({
            label: v.pipe(v.string(), v.trim(), v.nonEmpty('Purpose is needed.')),
            role: v.string(),
            networks: v.string(),
            final: v.boolean(),
            days: v.pipe(v.string(), v.regex(/^[1-9]\d{0,3}$/, 'Days is a number from 1.')),
          })}
          start={{ label: '', role: 'viewer', days: '90', networks: '', final: false }}
          again
          submit="Make a token"
          said="The token was made; it is shown once"
          of="tokens"
          send={(x) =>
            take(
              api.POST('/api/v1/tokens', {
                body: {
                  label: x.label,
                  role: x.role as Schemas['NewToken']['role'],
                  days: Number(x.days),
                  networks: words(x.networks),
                  final: x.final,
                },
              }),
            )
          }
          command={(x) =>
            command(
              'token',
              'add',
              x.label.trim() || 'PURPOSE',
              '--role',
              x.role,
              ...option('days', x.days),
              ...words(x.networks).flatMap((n) => ['--network', n]),
              ...(x.final ? ['--final'] : []),
            )
          }
          done={setMade}
        >
          <FieldGrid columns={3}>
            <Field name="label" label="Purpose" />
            <Choice name="role" label="Role" options={tokenRoles} />
            <Field name="days" label="Days" type="number" />
            <Field
              name="networks"
              label="Networks"
              help="From which it may be used, such as 192.0.2.0/24; empty: from all."
            />
            <Tick name="final" label="May do what cannot be taken back, such as revert and remove" />
          </FieldGrid>
        </Form>
      </Box>
      {made && <Made token={made} close={() => setMade(undefined)} />}
    </Panel>
  )
}

function Made({ token, close }: { token: Schemas['Token']; close: () => void }) {
  return (
    <Alert severity="warning" variant="outlined" sx={{ mt: 2 }} onClose={close}>
      This is shown once; keep it where the program finds it:
      <Box sx={{ fontFamily: mono, overflowWrap: 'anywhere' }}>{token.secret}</Box>
      <Copy text={token.secret ?? ''} what="the token" />
    </Alert>
  )
}

function TokenRow({ t, made }: { t: Schemas['Token']; made: (token: Schemas['Token']) => void }) {
  const [sure, setSure] = useState(false)
  const [rotates, setRotates] = useState(false)
  const rotate = useChange({
    of: 'tokens',
    do: () =>
      take(api.POST('/api/v1/tokens/{id}/rotation', { params: { path: { id: t.id } }, body: { days: 90, hours: 24 } })),
    done: (out: Schemas['Token']) => {
      setRotates(false)
      made(out)
    },
  })
  const end = useChange({
    of: 'tokens',
    do: () => take(api.DELETE('/api/v1/tokens/{id}', { params: { path: { id: t.id } } })),
    done: () => setSure(false),
  })
  return (
    <Row label={t.label}>
      <Typography sx={{ fontWeight: 600, minWidth: 120 }}>
        <bdi>{t.label}</bdi>
      </Typography>
      <span>
        {t.role}, by <bdi>{t.user}</bdi>
      </span>
      <Quiet grow>
        until <When at={t.ends_at} />
        {t.networks.length > 0 && `, from ${t.networks.join(', ')}`}
        {t.final && ', for what cannot be taken back, too'}
        {t.seen_at && (
          <>
            , last used <When at={t.seen_at} />
            {t.seen_from && ` from ${t.seen_from}`}
          </>
        )}
      </Quiet>
      <Button size="small" onClick={() => setRotates(true)}>
        Rotate
      </Button>
      <Button size="small" color="error" onClick={() => setSure(true)}>
        End it
      </Button>
      {rotates && (
        <Confirm
          question={`Make another token in the place of “${t.label}”?`}
          yes="Rotate"
          mild
          pending={rotate.isPending}
          error={rotate.error}
          act={() => rotate.mutate()}
          close={() => setRotates(false)}
          command={command('token', 'rotate', t.id)}
        >
          <Typography>The new one holds for 90 days. This one goes on for 24 hours, then it ends.</Typography>
        </Confirm>
      )}
      {sure && (
        <Confirm
          question={`End the token “${t.label}”?`}
          yes="End it"
          pending={end.isPending}
          error={end.error}
          act={() => end.mutate()}
          close={() => setSure(false)}
          command={command('token', 'remove', t.id)}
        >
          <Typography>
            The program that uses it is refused from then on. It cannot be brought back; a new one can be made.
          </Typography>
        </Confirm>
      )}
    </Row>
  )
}
