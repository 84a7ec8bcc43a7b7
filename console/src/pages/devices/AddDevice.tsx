import { useQuery } from '@tanstack/react-query'
import { useEffect } from 'react'
import { useFormContext } from 'react-hook-form'
import { useNavigate } from 'react-router'
import * as v from 'valibot'
import { api, take, type Schemas } from '../../api/client'
import { credentialsQuery, familiesQuery, protocolsQuery, sitesQuery, stale } from '../../api/queries'
import { Choice, Field } from '../../parts/form/Field'
import { command, option } from '../../parts/command'
import { FormDialog } from '../../parts/form/FormDialog'
import { useTyped } from '../../parts/form/Form'
import { HostKey, linkNames, linksOf, placeOf, unpinned, usualPort, type SignIn } from '../../parts/HostKey'
import { FieldGrid } from '../../parts/Panel'
import { devicePath, words } from '../../parts/words'

const needed = (what: string) => v.pipe(v.string(), v.trim(), v.nonEmpty(`${what} is needed.`))
export const portField = (what: string) =>
  v.pipe(
    v.string(),
    v.regex(/^\d{1,5}$/, `${what} is a number from 1 to 65535.`),
    v.check((p) => Number(p) >= 1 && Number(p) <= 65535, `${what} is a number from 1 to 65535.`),
  )

const fields = v.object({
  name: v.pipe(
    needed('Name'),
    v.regex(/^[a-z0-9]([a-z0-9.-]*[a-z0-9])?$/, 'Name has small letters, digits, dots and hyphens.'),
  ),
  address: needed('Address'),
  site: v.string(),
  family: v.string(),
  port: portField('Port'),
  serverName: v.string(),
  owner: v.string(),
  tags: v.string(),
  notes: v.string(),
  protocol: v.string(),
  secret: v.string(),
  credential: v.string(),
  user: v.string(),
  password: v.string(),
  linkPort: v.string(),
  pin: v.string(),
  pinnedAt: v.string(),
  secondCredential: v.string(),
  secondUser: v.string(),
  secondPassword: v.string(),
  secondPort: v.string(),
  secondPin: v.string(),
  secondPinnedAt: v.string(),
  links: v.array(v.picklist(['ssh', 'https', 'netconf'])), // over which the family signs in
})
type Values = v.InferOutput<typeof fields>

const place = (d: Pick<Values, 'site' | 'address'>, port: string) => ({ site: d.site, address: d.address, port })
const isPort = (p: string) => /^\d{1,5}$/.test(p) && Number(p) >= 1 && Number(p) <= 65535

const schema = v.pipe(
  fields,
  v.forward(
    v.check((d) => d.links.length < 1 || isPort(d.linkPort), 'Port is a number from 1 to 65535.'),
    ['linkPort'],
  ),
  v.forward(
    v.check((d) => d.links.length < 1 || (d.pin !== '' && d.pinnedAt === placeOf(place(d, d.linkPort))), unpinned),
    ['pin'],
  ),
  v.forward(
    v.check((d) => d.links.length < 1 || d.credential !== '' || d.user !== '', 'A user is needed, or a credential.'),
    ['user'],
  ),
  v.forward(
    v.check((d) => d.links.length < 2 || isPort(d.secondPort), 'Port is a number from 1 to 65535.'),
    ['secondPort'],
  ),
  v.forward(
    v.check(
      (d) => d.links.length < 2 || (d.secondPin !== '' && d.secondPinnedAt === placeOf(place(d, d.secondPort))),
      unpinned,
    ),
    ['secondPin'],
  ),
  v.forward(
    v.check(
      (d) => d.links.length < 2 || d.secondCredential !== '' || d.secondUser !== '',
      'A user is needed, or a credential.',
    ),
    ['secondUser'],
  ),
)

/** accessOf is how the device is reached over the links of its family, as the API takes it. */
function accessOf(d: Values) {
  const first = {
    pin: d.pin,
    port: Number(d.linkPort),
    ...(d.credential ? { credential: d.credential } : { user: d.user, password: d.password }),
  }
  const second = {
    pin: d.secondPin,
    port: Number(d.secondPort),
    ...(d.secondCredential ? { credential: d.secondCredential } : { user: d.secondUser, password: d.secondPassword }),
  }
  return d.links.map((link, i) => ({ link, ...(i === 0 ? first : second) }))
}

/** commandOf is the command that adds the device; its passwords are read from files. */
function commandOf(d: Values) {
  const slot = slotOf(d)
  const access = (link: number, prefix: string) =>
    d.links.length > link
      ? [
          ...option(`${prefix}port`, link === 0 ? d.linkPort : d.secondPort),
          ...option(`${prefix}credential`, link === 0 ? d.credential : d.secondCredential),
          ...option(`${prefix}user`, link === 0 ? d.user : d.secondUser),
          ...((link === 0 ? d.password : d.secondPassword) ? [`--${prefix}password-file`, 'password.txt'] : []),
          ...option(`${prefix}pin`, link === 0 ? d.pin : d.secondPin),
        ]
      : []
  return command(
    'device',
    'add',
    d.name,
    ...option('address', d.address),
    ...option('site', d.site),
    ...option('family', d.family),
    ...option('owner', d.owner),
    ...words(d.tags).flatMap((t) => option('tag', t)),
    ...option('notes', d.notes),
    '--slot',
    `${slot.name}=${d.port}${slot.protocol === 'tls' ? '' : `/${slot.protocol}`}`,
    ...option('server-name', d.serverName),
    ...(d.secret ? ['--radius-secret-file', 'secret.txt'] : []),
    ...access(0, ''),
    ...access(1, 'second-'),
  )
}

/** slotOf is the slot of the device, named by what it is read for. */
function slotOf(d: Values) {
  const eap = eaps.includes(d.protocol)
  return {
    name: eap ? 'eap' : d.protocol === 'tls' ? 'web' : d.protocol,
    port: Number(d.port),
    protocol: d.protocol,
    server_name: d.serverName || (d.name.includes('.') ? d.name : ''),
    ...(eap && { secret: d.secret }),
  }
}
const eaps = ['peap', 'ttls', 'eap-tls']
const none: Schemas['Protocol'][] = []

const start: Values = {
  name: '',
  address: '',
  site: '',
  family: '',
  port: '443',
  serverName: '',
  owner: '',
  tags: '',
  notes: '',
  protocol: 'tls',
  secret: '',
  credential: '',
  user: '',
  password: '',
  linkPort: '22',
  pin: '',
  pinnedAt: '',
  secondCredential: '',
  secondUser: '',
  secondPassword: '',
  secondPort: '22',
  secondPin: '',
  secondPinnedAt: '',
  links: [],
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
      command={commandOf}
      of="devices"
      send={async (d) => {
        const made = await take(
          api.POST('/api/v1/devices', {
            body: {
              name: d.name,
              address: d.address,
              site: d.site,
              family: d.family,
              owner: d.owner,
              tags: words(d.tags),
              notes: d.notes,
              slots: [slotOf(d)],
              ...(d.links.length > 0 && { access: accessOf(d) }),
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
  const links = linksOf(families.find((f) => f.name === d.family)?.links)
  useLinks(links)
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
        options={[
          { value: '', label: 'none (monitored only)' },
          ...families
            .filter((f) => !f.links.includes('service'))
            .map((f) => ({ value: f.name, label: f.title || f.name })),
        ]}
      />
      <Protocol />
      <Field name="port" label="Port" type="number" help="of its first slot" />
      <Field name="serverName" label="Server name" help="the name that clients use; empty: its name" />
      {links.map((link, i) => (
        <Access key={link} link={link} second={i > 0} />
      ))}
      <Field name="owner" label="Owner" />
      <Field name="tags" label="Tags" help="separated by blanks" />
      <Field name="notes" label="Notes" multiline minRows={2} sx={{ gridColumn: '1 / -1' }} />
    </FieldGrid>
  )
}

/** Protocol chooses what the slot speaks, and fills in its usual port. */
function Protocol() {
  const d = useTyped<Values>()
  const { setValue, getValues } = useFormContext<Values>()
  const all = useQuery(protocolsQuery).data ?? none
  const usual = all.find((p) => p.name === d.protocol)?.port
  useEffect(() => {
    if (usual && all.some((p) => String(p.port) === getValues('port'))) setValue('port', String(usual))
  }, [usual, all, getValues, setValue])
  return (
    <>
      <Choice
        name="protocol"
        label="Protocol"
        help="how its certificate is read"
        options={all.filter((p) => !p.spoken_as).map((p) => ({ value: p.name, label: p.title }))}
      />
      {eaps.includes(d.protocol) && (
        <Field
          name="secret"
          label="Shared secret"
          type="password"
          complete="new-password"
          help="of this service as a network device of the RADIUS server"
        />
      )}
    </>
  )
}

/** Access are the fields with which one signs in over a link. */
function Access({ link, second }: { link: SignIn; second: boolean }) {
  const d = useTyped<Values>()
  const credentials = useQuery(credentialsQuery).data ?? []
  const own = (second ? d.secondCredential : d.credential) === ''
  const field = (first: string, other: string) => (second ? other : first)
  const label = linkNames[link]
  return (
    <>
      <Choice
        name={field('credential', 'secondCredential')}
        label={second ? `${label} credential` : 'Credential'}
        options={[
          { value: '', label: 'its own' },
          ...credentials.map((c) => ({ value: c.name, label: `${c.name} (${c.user})` })),
        ]}
      />
      <Field name={field('linkPort', 'secondPort')} label={`${label} port`} type="number" />
      {own && <Field name={field('user', 'secondUser')} label={`${label} user`} />}
      {own && (
        <Field
          name={field('password', 'secondPassword')}
          label={second ? `${label} password` : 'Password'}
          type="password"
          complete="new-password"
        />
      )}
      <HostKey
        at={place(d, second ? d.secondPort : d.linkPort)}
        what="The device"
        link={link}
        prefix={second ? 'second' : ''}
      />
    </>
  )
}

/** useLinks tells the check of the form over which links the family signs in, and fills in their usual ports. */
function useLinks(links: SignIn[]) {
  const { setValue } = useFormContext<Values>()
  const all = links.join(' ')
  useEffect(() => {
    const [first, second] = linksOf(all.split(' '))
    setValue('links', linksOf(all.split(' ')))
    if (first) setValue('linkPort', usualPort[first])
    if (second) setValue('secondPort', usualPort[second])
  }, [all, setValue])
}
