import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useId, useState } from 'react'
import * as v from 'valibot'
import { api, take, type Schemas } from '../../api/client'
import { sessionQuery, sessionsQuery, tokensQuery, useChange, usersQuery } from '../../api/queries'
import { Confirm } from '../../parts/Confirm'
import { Choice, Field } from '../../parts/form/Field'
import { Form } from '../../parts/form/Form'
import { Heading } from '../../parts/Heading'
import { Loaded } from '../../parts/Loaded'
import { useMay } from '../../parts/May'
import { SessionRow } from '../account/SessionRow'
import { Tokens } from './Tokens'
import { roleOptions, roles, type Role } from './roles'
import { SignInRules } from './SignInRules'
import { FieldGrid, Panel, Quiet, Row, Stack } from '../../parts/Panel'
import { When } from '../../parts/When'
import { command } from '../../parts/command'

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
              <Sessions />
              <Tokens />
              <SignInRules />
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
  const [resets, setReset] = useState(false)
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
  const reset = useChange({
    of: 'users',
    do: () => take(api.DELETE('/api/v1/users/{name}/factor', path)),
    done: () => setReset(false),
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
        {user.factor ? 'with a second factor, ' : ''}since <When at={user.added_at} />
      </Quiet>
      {!mine && user.factor && (
        <Button size="small" color="error" onClick={() => setReset(true)}>
          Remove the second factor
        </Button>
      )}
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
      {resets && (
        <Confirm
          question={`Remove the second factor of ${user.name}?`}
          yes="Remove it"
          pending={reset.isPending}
          error={reset.error}
          act={() => reset.mutate()}
          close={() => setReset(false)}
          command={command('user', 'reset-factor', user.name)}
        >
          <Typography>
            For somebody who lost the authenticator and the recovery codes. All sessions of {user.name} end, and the
            password alone signs in from then on.
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

/** Sessions are the consoles and clients that people are signed in with. */
function Sessions() {
  const sessions = useQuery(sessionsQuery(true))
  return (
    <Panel title="Signed in" term="session">
      <Loaded query={sessions}>{(list) => list.map((x) => <SessionRow key={x.id} s={x} whose />)}</Loaded>
    </Panel>
  )
}
