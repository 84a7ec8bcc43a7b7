import Button from '@mui/material/Button'
import { useMutation, useQuery } from '@tanstack/react-query'
import * as v from 'valibot'
import { api, revision, take, type Schemas } from '../../api/client'
import { channelsQuery } from '../../api/queries'
import { Collection } from '../../parts/Collection'
import { EditRemove } from '../../parts/EditRemove'
import { Choice, Field } from '../../parts/form/Field'
import { FormDialog } from '../../parts/form/FormDialog'
import { useTyped } from '../../parts/form/Form'
import { FieldGrid, Quiet, Row } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { words } from '../../parts/words'
import { AsCommand } from '../../parts/AsCommand'
import { command, option, options } from '../../parts/command'

type Channel = Schemas['Channel']

const schema = v.object({
  name: v.pipe(v.string(), v.trim(), v.nonEmpty('Name is needed.')),
  kind: v.picklist(['mail', 'webhook', 'syslog']),
  address: v.string(),
  port: v.pipe(v.string(), v.regex(/^\d{0,5}$/, 'Port is a number from 1 to 65535.')),
  security: v.picklist(['', 'starttls', 'tls', 'plain']),
  pin: v.string(),
  from: v.string(),
  to: v.string(),
  owners: v.string(),
  user: v.string(),
  url: v.string(),
  secret: v.string(),
})
type Values = v.InferOutput<typeof schema>

function valuesOf(c: Channel | undefined): Values {
  return {
    name: c?.name ?? '',
    kind: c?.kind ?? 'mail',
    address: c?.address ?? '',
    port: c?.port ? String(c.port) : '',
    security: c?.security ?? '',
    pin: c?.pin ?? '',
    from: c?.from ?? '',
    to: (c?.to ?? []).join(', '),
    owners: Object.entries(c?.owners ?? {})
      .map(([owner, address]) => `${owner}=${address}`)
      .join('\n'),
    user: c?.user ?? '',
    url: c?.url ?? '',
    secret: '',
  }
}

/** ownersOf reads lines of OWNER=ADDRESS. */
export function ownersOf(text: string): Record<string, string> {
  const pairs = text
    .split('\n')
    .map((line) => [line.slice(0, line.lastIndexOf('=')).trim(), line.slice(line.lastIndexOf('=') + 1).trim()] as const)
  return Object.fromEntries(pairs.filter(([owner, address]) => owner && address))
}

/** Channels are where people are told. */
export function Channels() {
  return (
    <Collection
      title="Channels"
      what="Changing channels"
      add="Add a channel"
      query={useQuery(channelsQuery)}
      none="There is no channel yet: add a mail server, a webhook or a syslog server."
      row={(c, edit) => <ChannelRow c={c} edit={edit} />}
      form={(was, close) => <EditChannel was={was} close={close} />}
    />
  )
}

function ChannelRow({ c, edit }: { c: Channel; edit: () => void }) {
  const at = { params: { path: { name: c.name } } }
  const trial = useMutation({ mutationFn: () => take(api.POST('/api/v1/channels/{name}/trials', at)) })
  return (
    <Row label={`Channel ${c.name}`}>
      <strong>{c.name}</strong>
      <Quiet grow>
        {c.kind} {c.kind === 'webhook' ? c.url : `${c.address}:${c.port}`} {c.to?.length ? `to ${c.to.join(', ')}` : ''}
      </Quiet>
      <EditRemove
        what={`the channel ${c.name}`}
        of="channels"
        edit={edit}
        command={command('channel', 'remove', c.name)}
        remove={() => take(api.DELETE('/api/v1/channels/{name}', at))}
        before={
          <Button size="small" onClick={() => trial.mutate()} disabled={trial.isPending}>
            Try
          </Button>
        }
      />
      {trial.data && (
        <Quiet>{trial.data.sent ? 'The message was sent.' : `The message was not sent: ${trial.data.why}`}</Quiet>
      )}
      <AsCommand command={command('channel', 'try', c.name)} />
      {trial.error && <Problem error={trial.error} />}
    </Row>
  )
}

function commandOf(x: Values) {
  const mail = x.kind === 'mail'
  const server = `${x.address.trim() || 'HOST'}${x.port && `:${x.port}`}`
  return command(
    ...['channel', 'set', x.name.trim() || 'NAME', `--${x.kind}`, x.kind === 'webhook' ? x.url || 'ADDRESS' : server],
    ...(x.kind === 'webhook' ? [] : option('security', x.security)),
    ...(mail ? [...option('from', x.from), ...options('to', words(x.to))] : []),
    ...(mail
      ? options(
          'owner',
          x.owners.split('\n').filter((line) => line.trim() !== ''),
        )
      : []),
    ...[...(mail ? option('user', x.user) : []), ...option('pin', x.pin)],
    ...(x.secret && x.kind !== 'syslog' ? ['--secret-file', 'FILE'] : []),
  )
}

function EditChannel({ was, close }: { was: Channel | undefined; close: () => void }) {
  return (
    <FormDialog
      title={was ? `Edit ${was.name}` : 'Add a channel'}
      wide
      schema={schema}
      start={valuesOf(was)}
      submit="Save"
      of="channels"
      send={(x) =>
        take(
          api.PUT('/api/v1/channels/{name}', {
            params: { path: { name: x.name }, header: revision(was ?? { revision: 0 }) },
            body: {
              kind: x.kind,
              pin: x.pin,
              secret: x.secret,
              ...(x.kind === 'webhook'
                ? { url: x.url }
                : { address: x.address, port: Number(x.port), ...(x.security && { security: x.security }) }),
              ...(x.kind === 'mail' && { from: x.from, to: words(x.to), owners: ownersOf(x.owners), user: x.user }),
            },
          }),
        )
      }
      command={commandOf}
      close={close}
    >
      <Fields was={was} />
    </FormDialog>
  )
}

function Fields({ was }: { was: Channel | undefined }) {
  const { kind } = useTyped<Values>()
  return (
    <FieldGrid>
      <Field name="name" label="Name" disabled={Boolean(was)} autoFocus={!was} />
      <Choice
        name="kind"
        label="Kind"
        options={[
          { value: 'mail', label: 'mail' },
          { value: 'webhook', label: 'webhook' },
          { value: 'syslog', label: 'syslog' },
        ]}
      />
      {kind === 'webhook' ? (
        <Field name="url" label="Address" help="https://…" />
      ) : (
        <>
          <Field name="address" label="Server" />
          <Field name="port" label="Port" type="number" help="empty: the default" />
          <Choice
            name="security"
            label="Security"
            options={[
              { value: '', label: kind === 'mail' ? 'STARTTLS' : 'TLS' },
              ...(kind === 'mail' ? [{ value: 'tls', label: 'TLS' }] : []),
              { value: 'plain', label: 'none' },
            ]}
          />
        </>
      )}
      {kind === 'mail' && (
        <>
          <Field name="from" label="From" />
          <Field name="to" label="To" help="for owners without an address of their own" />
          <Field name="owners" label="Owners" multiline help="OWNER=ADDRESS, one per line" />
          <Field name="user" label="User" />
        </>
      )}
      {kind !== 'syslog' && (
        <Field
          name="secret"
          label={kind === 'mail' ? 'Password' : 'Key that signs its messages'}
          type="password"
          complete="new-password"
          help={
            was?.has_secret
              ? 'empty: stays as it is; needed again for another server'
              : kind === 'webhook'
                ? '32 characters or more'
                : undefined
          }
        />
      )}
      <Field name="pin" label="Pin" help="SHA-256 of the server’s certificate, where the system does not trust it" />
    </FieldGrid>
  )
}
