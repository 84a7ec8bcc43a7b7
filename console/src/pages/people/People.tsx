import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useId, useState } from 'react'
import * as v from 'valibot'
import { api, take, type Schemas } from '../../api/client'
import { sessionQuery, tokensQuery, useChange, usersQuery } from '../../api/queries'
import { mono } from '../../app/theme'
import { Confirm } from '../../parts/Confirm'
import { Choice, Field } from '../../parts/form/Field'
import { Form } from '../../parts/form/Form'
import { Heading } from '../../parts/Heading'
import { Loaded } from '../../parts/Loaded'
import { useMay } from '../../parts/May'
import { FieldGrid, Panel, Quiet, Row, Stack } from '../../parts/Panel'
import { Copy } from '../../parts/Print'
import { When } from '../../parts/When'
import { command, option } from '../../parts/command'

type Role = Schemas['User']['role']
const roles: Record<Role, string> = {
  viewer: 'read only',
  operator: 'reads, replaces, runs intakes',
  admin: 'everything',
}
const roleOptions = (Object.keys(roles) as Role[]).map((r) => ({ value: r, label: `${r}: ${roles[r]}` }))

const tokenRoles = [{ value: 'monitor', label: 'monitor: reads the metrics' }, ...roleOptions]

/** People is for admins: who may sign in, with which role, and which programs have a token. */
export function People() {
  const admin = useMay('admin')
  return (
    <Stack>
      <Heading title="People" tab="People" />
      {admin ? <Both /> : <Quiet>Only admins can see users and tokens.</Quiet>}
    </Stack>
  )
}

/** Both are shown at once, so that nothing moves while the second one comes. */
function Both() {
  const users = useQuery(usersQuery)
  const tokens = useQuery(tokensQuery)
  return (
    <Loaded query={users} height={480}>
      {() => (
        <Loaded query={tokens} height={480}>
          {() => (
            <>
              <Users />
              <Tokens />
            </>
          )}
        </Loaded>
      )}
    </Loaded>
  )
}

function Users() {
  const users = useQuery(usersQuery)
  const id = useId()
  return (
    <Panel title="Users" term="role">
      <Loaded query={users}>{(list) => list.map((u) => <UserRow key={u.name} user={u} />)}</Loaded>
      <Box sx={{ pt: 2 }}>
        <Form
          id={id}
          label="Add a user"
          schema={v.object({
            name: v.pipe(v.string(), v.trim(), v.nonEmpty('Name is needed.')),
            password: v.pipe(v.string(), v.minLength(10, 'First password has at least 10 characters.')),
            role: v.string(),
          })}
          start={{ name: '', password: '', role: 'viewer' }}
          again
          submit="Add"
          said="The user was added"
          of="users"
          command={(x) => command('user', 'add', x.name.trim() || 'NAME', '--role', x.role)}
          send={(x) =>
            take(api.POST('/api/v1/users', { body: { name: x.name, password: x.password, role: x.role as Role } }))
          }
        >
          <FieldGrid columns={3}>
            <Field name="name" label="Name" />
            <Field name="password" label="First password" type="password" complete="new-password" />
            <Choice name="role" label="Role" options={roleOptions} />
          </FieldGrid>
        </Form>
      </Box>
    </Panel>
  )
}

function UserRow({ user }: { user: Schemas['User'] }) {
  const me = useQuery(sessionQuery).data?.user
  const [sure, setSure] = useState(false)
  const [role, setRole] = useState<Role>()
  const path = { params: { path: { name: user.name } } }
  const edit = useChange({
    of: 'users',
    do: (to: Role) => take(api.PATCH('/api/v1/users/{name}', { ...path, body: { role: to } })),
    done: () => setRole(undefined),
  })
  const remove = useChange({
    of: 'users',
    do: () => take(api.DELETE('/api/v1/users/{name}', path)),
    done: () => setSure(false),
  })
  const mine = me === user.name
  return (
    <Row label={user.name}>
      <Typography sx={{ fontWeight: 600, minWidth: 120 }}>
        <bdi>{user.name}</bdi>
      </Typography>
      {mine ? (
        <Typography>{user.role}. Only another admin can change your role.</Typography>
      ) : (
        <TextField
          id={`role-${user.name}`}
          select
          size="small"
          label="Role"
          value={user.role}
          onChange={(e) => setRole(e.target.value as Role)}
          sx={{ width: 250 }}
        >
          {roleOptions.map((r) => (
            <MenuItem key={r.value} value={r.value}>
              {r.label}
            </MenuItem>
          ))}
        </TextField>
      )}
      <Quiet grow>
        since <When at={user.added_at} />
      </Quiet>
      {!mine && (
        <Button size="small" color="error" onClick={() => setSure(true)}>
          Remove
        </Button>
      )}
      {role && (
        <Confirm
          question={`Make ${user.name} ${role}?`}
          yes="Change the role"
          pending={edit.isPending}
          error={edit.error}
          act={() => edit.mutate(role)}
          close={() => setRole(undefined)}
          command={command('user', 'edit', user.name, '--role', role)}
        >
          <Typography>
            From {user.role} ({roles[user.role]}) to {role} ({roles[role]}). All sessions of {user.name} end.
          </Typography>
        </Confirm>
      )}
      {sure && (
        <Confirm
          question={`Remove the user ${user.name}?`}
          yes="Remove"
          pending={remove.isPending}
          error={remove.error}
          act={() => remove.mutate()}
          close={() => setSure(false)}
          command={command('user', 'remove', user.name)}
        >
          <Typography>
            All sessions and tokens of {user.name} end. What {user.name} did stays in the audit log.
          </Typography>
        </Confirm>
      )}
    </Row>
  )
}

function Tokens() {
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
              <TokenRow key={t.id} t={t} />
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
            days: v.pipe(v.string(), v.regex(/^[1-9]\d{0,3}$/, 'Days is a number from 1.')),
          })}
          start={{ label: '', role: 'viewer', days: '90' }}
          again
          submit="Make a token"
          said="The token was made; it is shown once"
          of="tokens"
          send={(x) =>
            take(
              api.POST('/api/v1/tokens', {
                body: { label: x.label, role: x.role as Schemas['NewToken']['role'], days: Number(x.days) },
              }),
            )
          }
          command={(x) =>
            command('token', 'add', x.label.trim() || 'PURPOSE', '--role', x.role, ...option('days', x.days))
          }
          done={setMade}
        >
          <FieldGrid columns={3}>
            <Field name="label" label="Purpose" />
            <Choice name="role" label="Role" options={tokenRoles} />
            <Field name="days" label="Days" type="number" />
          </FieldGrid>
        </Form>
      </Box>
      {made && (
        <Alert severity="warning" variant="outlined" sx={{ mt: 2 }} onClose={() => setMade(undefined)}>
          This is shown once; keep it where the program finds it:
          <Box sx={{ fontFamily: mono, overflowWrap: 'anywhere' }}>{made.secret}</Box>
          <Copy text={made.secret ?? ''} what="the token" />
        </Alert>
      )}
    </Panel>
  )
}

function TokenRow({ t }: { t: Schemas['Token'] }) {
  const [sure, setSure] = useState(false)
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
      </Quiet>
      <Button size="small" color="error" onClick={() => setSure(true)}>
        End it
      </Button>
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
