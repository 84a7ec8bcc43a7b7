import { useQuery } from '@tanstack/react-query'
import { useEffect } from 'react'
import { useFormContext } from 'react-hook-form'
import { useNavigate } from 'react-router'
import * as v from 'valibot'
import { api, take } from '../../api/client'
import { credentialsQuery, familiesQuery, sitesQuery, stale } from '../../api/queries'
import { Choice, Field } from '../../parts/form/Field'
import { FormDialog } from '../../parts/form/FormDialog'
import { useTyped } from '../../parts/form/Form'
import { HostKey, placeOf, unpinned } from '../../parts/HostKey'
import { FieldGrid } from '../../parts/Panel'
import { devicePath } from '../../parts/words'

const needed = (what: string) => v.pipe(v.string(), v.trim(), v.nonEmpty(`${what} is needed.`))
export const portField = (what: string) =>
  v.pipe(
    v.string(),
    v.regex(/^\d{1,5}$/, `${what} is a number from 1 to 65535.`),
    v.check((p) => Number(p) >= 1 && Number(p) <= 65535, `${what} is a number from 1 to 65535.`),
  )

const fields = v.object({
  name: v.pipe(needed('Name'), v.regex(/^[a-z0-9]([a-z0-9.-]*[a-z0-9])?$/, 'Name has small letters, digits, dots and hyphens.')),
  address: needed('Address'),
  site: v.string(),
  family: v.string(),
  port: portField('Port'),
  serverName: v.string(),
  credential: v.string(),
  user: v.string(),
  password: v.string(),
  sshPort: portField('SSH port'),
  pin: v.string(),
  pinnedAt: v.string(),
  overSSH: v.boolean(),
})
type Values = v.InferOutput<typeof fields>

const schema = v.pipe(
  fields,
  v.forward(
    v.check((d) => !d.overSSH || (d.pin !== '' && d.pinnedAt === placeOf({ site: d.site, address: d.address, port: d.sshPort })), unpinned),
    ['pin'],
  ),
  v.forward(
    v.check((d) => !d.overSSH || d.credential !== '' || d.user !== '', 'SSH user is needed, or a credential.'),
    ['user'],
  ),
)

const start: Values = {
  name: '',
  address: '',
  site: '',
  family: '',
  port: '443',
  serverName: '',
  credential: '',
  user: '',
  password: '',
  sshPort: '22',
  pin: '',
  pinnedAt: '',
  overSSH: false,
}

/** AddDevice takes a device in: its host key is shown and compared by a person before it is pinned. */
export function AddDevice({ close }: { close: () => void }) {
  const navigate = useNavigate()
  return (
    <FormDialog
      title="Add a device"
      schema={schema}
      start={start}
      submit="Add it"
      said="The device was added"
      of="devices"
      send={async (d) => {
        const made = await take(
          api.POST('/api/v1/devices', {
            body: {
              name: d.name,
              address: d.address,
              site: d.site,
              family: d.family,
              slots: [{ name: 'web', port: Number(d.port), server_name: d.serverName || (d.name.includes('.') ? d.name : '') }],
              ...(d.overSSH && {
                access: [{ link: 'ssh', pin: d.pin, port: Number(d.sshPort), ...(d.credential ? { credential: d.credential } : { user: d.user, password: d.password }) }],
              }),
            },
          }),
        )
        // It is there now, whatever the first try of the connection says.
        void take(api.POST('/api/v1/devices/{name}/tries', { params: { path: { name: made.name } } })).then(
          () => stale('devices'),
          () => undefined,
        )
        return made
      }}
      done={(made) => void navigate(devicePath(made.name))}
      close={close}
    >
      <Fields />
    </FormDialog>
  )
}

function Fields() {
  const d = useTyped<Values>()
  const families = useQuery(familiesQuery).data ?? []
  const sites = useQuery(sitesQuery).data ?? []
  const credentials = useQuery(credentialsQuery).data ?? []
  const overSSH = families.find((f) => f.name === d.family)?.links.includes('ssh') ?? false
  useOverSSH(overSSH)
  return (
    <FieldGrid>
      <Field name="name" label="Name" help="small letters, digits, dots and hyphens" autoFocus />
      <Field name="address" label="Address" />
      <Choice
        name="site"
        label="Site"
        help="how a site is reached is set under Settings"
        options={[{ value: '', label: 'none' }, ...sites.map((s) => ({ value: s.name, label: s.name }))]}
      />
      <Choice
        name="family"
        label="Family"
        help="what it is; none: it can only be read"
        options={[{ value: '', label: 'none (monitored only)' }, ...families.filter((f) => !f.links.includes('service')).map((f) => ({ value: f.name, label: f.title || f.name }))]}
      />
      <Field name="port" label="Port" type="number" help="of its web interface" />
      <Field name="serverName" label="Server name" help="the name that clients use; empty: its name" />
      {overSSH && (
        <>
          <Choice
            name="credential"
            label="Credential"
            options={[{ value: '', label: 'its own' }, ...credentials.map((c) => ({ value: c.name, label: `${c.name} (${c.user})` }))]}
          />
          <Field name="sshPort" label="SSH port" type="number" />
          {!d.credential && <Field name="user" label="SSH user" />}
          {!d.credential && <Field name="password" label="Password" type="password" complete="new-password" />}
          <HostKey at={{ site: d.site, address: d.address, port: d.sshPort }} what="The device" />
        </>
      )}
    </FieldGrid>
  )
}

/** useOverSSH tells the check of the form whether the family signs in over SSH. */
function useOverSSH(on: boolean) {
  const { setValue } = useFormContext<Values>()
  useEffect(() => setValue('overSSH', on), [on, setValue])
}
