import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink } from 'react-router'
import * as v from 'valibot'
import { api, revision, take, type Schemas } from '../../api/client'
import { credentialsQuery, queryClient, useChange } from '../../api/queries'
import { Confirm } from '../../parts/Confirm'
import { Field } from '../../parts/form/Field'
import { Collection } from '../../parts/Collection'
import { FormDialog } from '../../parts/form/FormDialog'
import { May } from '../../parts/May'
import { FieldGrid, Quiet, Row } from '../../parts/Panel'
import { some } from '../../parts/words'
import { command } from '../../parts/command'

type Credential = Schemas['Credential']

const needed = (what: string) => v.pipe(v.string(), v.trim(), v.nonEmpty(`${what} is needed.`))
const schema = v.pipe(
  v.object({
    name: needed('Name'),
    user: needed('User'),
    password: v.string(),
    source: v.pipe(v.string(), v.trim()),
  }),
  v.forward(
    v.check((x) => Boolean(x.password) !== Boolean(x.source), 'Give a password or a source.'),
    ['password'],
  ),
)

/** Credentials are users and secrets that devices share. A secret is taken and never shown. */
export function Credentials() {
  return (
    <Collection
      title="Credentials that devices share"
      term="access"
      what="Changing credentials"
      add="Add a credential"
      query={useQuery(credentialsQuery)}
      none="None: every device has its own user and password."
      row={(c, replace) => <CredentialRow c={c} replace={replace} />}
      form={(c, close) => <EditCredential c={c} close={close} />}
    />
  )
}

function EditCredential({ c, close }: { c: Credential | undefined; close: () => void }) {
  const [seen, setSeen] = useState(c)
  return (
    <FormDialog
      title={c ? `Replace the secret of ${c.name}` : 'Add a credential'}
      schema={schema}
      start={{ name: c?.name ?? '', user: c?.user ?? '', password: '', source: c?.source ?? '' }}
      submit={c ? `Put it in the place of ${c.name}` : 'Add'}
      of="credentials"
      send={({ name, user, password, source }) =>
        seen
          ? take(
              api.PUT('/api/v1/credentials/{name}', {
                params: { path: { name: seen.name }, header: revision(seen) },
                body: { user, ...(source ? { source } : { password }) },
              }),
            )
          : take(api.POST('/api/v1/credentials', { body: { name, user, ...(source ? { source } : { password }) } }))
      }
      {...(c && {
        guard: {
          labels: { user: 'User', source: 'Source' },
          look: async () => {
            const now =
              (await queryClient.query({ ...credentialsQuery, staleTime: 0 })).find((x) => x.name === c.name) ?? c
            setSeen(now)
            return { name: now.name, user: now.user, password: '', source: now.source ?? '' }
          },
        },
      })}
      command={(x) =>
        command(
          ...['credential', c ? 'replace' : 'add', x.name.trim() || 'NAME', '--user', x.user.trim() || 'USER'],
          ...(x.source.trim() ? ['--source', x.source.trim()] : ['--password-file', 'FILE']),
        )
      }
      close={close}
    >
      <FieldGrid>
        <Field name="name" label="Name" disabled={Boolean(c)} autoFocus={!c} />
        <Field name="user" label="User" />
        <Field name="password" label="Password" type="password" complete="new-password" autoFocus={Boolean(c)} />
        <Field
          name="source"
          label="Source instead of a password"
          help="Where it is asked for each time: file NAME, systemd NAME or helper NAME WORD…"
        />
      </FieldGrid>
      {c && c.devices > 0 && (
        <Typography sx={{ mt: 2 }}>
          {some(c.devices, 'device')} sign in with it from then on. Nothing is changed on them: the password must be
          theirs already.
        </Typography>
      )}
    </FormDialog>
  )
}

function CredentialRow({ c, replace }: { c: Credential; replace: () => void }) {
  const [sure, setSure] = useState(false)
  const remove = useChange({
    of: 'credentials',
    do: () => take(api.DELETE('/api/v1/credentials/{name}', { params: { path: { name: c.name } } })),
    done: () => setSure(false),
  })
  return (
    <Row>
      <Typography sx={{ fontWeight: 600, minWidth: 110 }}>{c.name}</Typography>
      <bdi>{c.user}</bdi>
      {c.source && <Quiet>from {c.source}</Quiet>}
      <Quiet grow>
        {c.devices > 0 ? (
          <Link component={RouterLink} to="/devices">
            {some(c.devices, 'device')}
          </Link>
        ) : (
          'no device'
        )}
      </Quiet>
      <May role="admin">
        <Button size="small" onClick={replace}>
          Replace
        </Button>
        {c.devices === 0 ? (
          <Button size="small" color="error" onClick={() => setSure(true)}>
            Remove
          </Button>
        ) : (
          <Quiet>in use: it cannot be removed</Quiet>
        )}
      </May>
      {sure && (
        <Confirm
          question={`Remove the credential ${c.name}?`}
          yes="Remove"
          pending={remove.isPending}
          error={remove.error}
          act={() => remove.mutate()}
          close={() => setSure(false)}
          command={command('credential', 'remove', c.name)}
        >
          <Typography>Its secret is deleted. No device uses it.</Typography>
        </Confirm>
      )}
    </Row>
  )
}
