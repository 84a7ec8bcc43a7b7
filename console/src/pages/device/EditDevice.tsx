import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import * as v from 'valibot'
import { api, revision, take, type Device, type Schemas } from '../../api/client'
import { credentialsQuery, deviceQuery, familiesQuery, queryClient, sitesQuery } from '../../api/queries'
import { Choice, Field } from '../../parts/form/Field'
import { command } from '../../parts/command'
import { FormDialog } from '../../parts/form/FormDialog'
import { useTyped } from '../../parts/form/Form'
import { HostKey, linkNames, linksOf, placeOf, unpinned, usualPort, type SignIn } from '../../parts/HostKey'
import { FieldGrid, Quiet } from '../../parts/Panel'
import { words } from '../../parts/words'
import { portField } from '../devices/AddDevice'

const fields = v.object({
  address: v.pipe(v.string(), v.trim(), v.nonEmpty('Address is needed.')),
  site: v.string(),
  family: v.string(),
  credential: v.string(),
  user: v.string(),
  password: v.string(),
  linkPort: portField('Port'),
  pin: v.string(),
  pinnedAt: v.string(),
  owner: v.string(),
  cluster: v.string(),
  clusterRole: v.string(),
  tags: v.string(),
  notes: v.string(),
  settings: v.record(v.string(), v.string()),
  link: v.string(),
  linkAddress: v.string(), // where that is, if not at the device's address
})
type Values = v.InferOutput<typeof fields>

const linkPlace = (d: Values) => ({ site: d.site, address: d.linkAddress || d.address, port: d.linkPort })

const schema = v.pipe(
  fields,
  v.forward(
    v.check((d) => d.link === '' || d.pin === '' || d.pinnedAt === placeOf(linkPlace(d)), unpinned),
    ['pin'],
  ),
)

const labels = {
  address: 'Address',
  site: 'Site',
  family: 'Family',
  credential: 'Credential',
  user: 'User',
  linkPort: 'Port to sign in at',
  pin: 'Host key or certificate',
  owner: 'Owner',
  cluster: 'Cluster',
  clusterRole: 'Role in the cluster',
  tags: 'Tags',
  notes: 'Notes',
  settings: 'Settings',
}

/** valuesOf are what the form shows of a device. */
export function valuesOf(
  d: Device,
  settings: { name: string }[] = [],
  links: string[] = ['ssh', 'https'],
  wanted?: SignIn,
): Values {
  const link = wanted ?? linksOf(links).find((l) => d.access.some((a) => a.link === l))
  const access = d.access.find((a) => a.link === link)
  const shown = {
    address: d.address,
    site: d.site,
    family: d.family,
    credential: access?.credential ?? '',
    user: access?.user ?? '',
    password: '',
    linkPort: String(access?.port ?? usualPort[link ?? linksOf(links)[0] ?? 'ssh']),
    pin: access?.pin ?? '',
    pinnedAt: '',
    owner: d.owner,
    cluster: d.cluster,
    clusterRole: d.cluster_role,
    tags: d.tags.join(' '),
    notes: d.notes,
    settings: { ...Object.fromEntries(settings.map((s) => [s.name, ''])), ...d.settings },
    link: link ?? '',
    linkAddress: access?.address ?? '',
  }
  return { ...shown, pinnedAt: placeOf(linkPlace(shown)) }
}

/** changeOf is what is sent: what was changed alone. */
export function changeOf(x: Partial<Values>, before: Values): Schemas['EditDevice'] {
  const access: Schemas['AccessChange'] = {
    ...(x.credential !== undefined && { credential: x.credential }),
    ...(x.user !== undefined && !x.credential && { user: x.user }),
    ...(x.password && { password: x.password }),
    ...(x.linkPort !== undefined && { port: Number(x.linkPort) }),
    ...(x.pin !== undefined && { pin: x.pin }),
  }
  const settings = Object.fromEntries(
    Object.entries(x.settings ?? {}).filter(([name, value]) => value !== (before.settings[name] ?? '')),
  )
  return {
    ...(x.address !== undefined && { address: x.address }),
    ...(x.site !== undefined && { site: x.site }),
    ...(x.family !== undefined && { family: x.family }),
    ...(x.owner !== undefined && { owner: x.owner }),
    ...(x.cluster !== undefined && { cluster: x.cluster }),
    ...(x.clusterRole !== undefined && { cluster_role: x.clusterRole }),
    ...(x.tags !== undefined && { tags: x.tags.trim() === '' ? [' '] : words(x.tags) }),
    ...(x.notes !== undefined && { notes: x.notes }),
    ...(Object.keys(settings).length > 0 && { settings }),
    ...(Object.keys(access).length > 0 && {
      access: [{ ...access, ...(before.link !== '' && { link: before.link }) }],
    }),
  }
}

/** commandOf is the command that makes a change; a password is read from a file. */
function commandOf(device: string, change: Schemas['EditDevice']) {
  const access = change.access?.[0]
  return command(
    'device',
    'edit',
    device,
    ...given('address', change.address),
    ...given('site', change.site),
    ...given('family', change.family),
    ...given('owner', change.owner),
    ...given('cluster', change.cluster),
    ...given('cluster-role', change.cluster_role),
    ...(change.tags ?? []).flatMap((t) => ['--tag', t]),
    ...given('notes', change.notes),
    ...Object.entries(change.settings ?? {}).flatMap(([name, value]) => ['--setting', `${name}=${value}`]),
    ...given('link', access?.link),
    ...given('credential', access?.credential),
    ...given('user', access?.user),
    ...(access?.password ? ['--password-file', 'password.txt'] : []),
    ...given('port', access?.port?.toString()),
    ...given('pin', access?.pin),
  )
}

/** given is a flag whose value may be empty: that takes away what is there. */
const given = (flag: string, value: string | null | undefined) =>
  value === undefined || value === null ? [] : [`--${flag}`, value]

/**
 * EditDevice changes a device, or how it is reached over one of its links; only what was changed is sent, and only onto
 * what was looked at.
 */
export function EditDevice({ device, link, close }: { device: Device; link?: SignIn; close: () => void }) {
  // What the form began with; the page may show a newer state meanwhile.
  const [seen, setSeen] = useState(device)
  const families = useQuery(familiesQuery).data
  if (!families) return null
  const shown = (d: Device) => {
    const family = families.find((f) => f.name === d.family)
    return valuesOf(d, family?.settings, family?.links, link)
  }
  return (
    <FormDialog
      title={link ? `Edit how ${device.name} is reached over ${linkNames[link]}` : `Edit ${device.name}`}
      wide
      schema={schema}
      start={shown(seen)}
      submit="Save"
      of="devices"
      command={(_, changed) => commandOf(device.name, changeOf(changed, shown(seen)))}
      send={(_, changed) =>
        take(
          api.PATCH('/api/v1/devices/{name}', {
            params: { path: { name: device.name }, header: revision(seen) },
            body: changeOf(changed, shown(seen)),
          }),
        )
      }
      guard={{
        labels,
        look: async () => {
          const now = await queryClient.query({ ...deviceQuery(device.name), staleTime: 0 })
          setSeen(now)
          return shown(now)
        },
      }}
      close={close}
    >
      {link ? (
        <FieldGrid>
          <Access link={link} />
        </FieldGrid>
      ) : (
        <Fields />
      )}
    </FormDialog>
  )
}

/** Access are the fields with which one signs in over a link. */
function Access({ link }: { link: SignIn }) {
  const d = useTyped<Values>()
  const credentials = useQuery(credentialsQuery).data ?? []
  return (
    <>
      <Field name="linkPort" label={`${linkNames[link]} port`} type="number" />
      <Choice
        name="credential"
        label="Credential"
        options={[
          { value: '', label: 'its own' },
          ...credentials.map((c) => ({ value: c.name, label: `${c.name} (${c.user})` })),
        ]}
      />
      {!d.credential && <Field name="user" label="User" />}
      {!d.credential && (
        <Field
          name="password"
          label="New password"
          type="password"
          complete="new-password"
          help="empty: stays as it is; needed again for another address, port or pin"
        />
      )}
      <HostKey at={linkPlace(d)} what="The device" link={link} />
    </>
  )
}

function Fields() {
  const d = useTyped<Values>()
  const families = useQuery(familiesQuery).data ?? []
  const sites = useQuery(sitesQuery).data ?? []
  const family = families.find((f) => f.name === d.family)
  const link = linksOf(family?.links)[0]
  return (
    <FieldGrid>
      <Field name="address" label="Address" />
      <Choice
        name="site"
        label="Site"
        options={[{ value: '', label: 'none' }, ...sites.map((s) => ({ value: s.name, label: s.name }))]}
      />
      <Choice
        name="family"
        label="Family"
        options={[
          { value: '', label: 'none (monitored only)' },
          ...families
            .filter((f) => !f.links.includes('service') || f.name === d.family)
            .map((f) => ({ value: f.name, label: f.title || f.name })),
        ]}
      />
      {link && <Access link={link} />}
      <Field name="owner" label="Owner" />
      <Field name="tags" label="Tags" help="separated by blanks" />
      <Field name="cluster" label="Cluster" />
      <Choice
        name="clusterRole"
        label="Role in the cluster"
        options={[
          { value: '', label: 'none' },
          ...['active', 'standby', 'member'].map((r) => ({ value: r, label: r })),
        ]}
      />
      <Field name="notes" label="Notes" multiline minRows={2} sx={{ gridColumn: '1 / -1' }} />
      {family && family.settings.length > 0 && (
        <div style={{ gridColumn: '1 / -1' }}>
          <Quiet>Settings of the family {family.title || family.name}</Quiet>
        </div>
      )}
      {family?.settings.map((s) =>
        s.choices ? (
          <Choice
            key={s.name}
            name={`settings.${s.name}`}
            label={s.name}
            help={s.about}
            options={[
              { value: '', label: s.default ? `default: ${s.default}` : 'not set' },
              ...s.choices.map((c) => ({ value: c, label: c })),
            ]}
          />
        ) : (
          <Field
            key={s.name}
            name={`settings.${s.name}`}
            label={s.name}
            help={`${s.about}${s.default ? `; default: ${s.default}` : ''}`}
          />
        ),
      )}
    </FieldGrid>
  )
}
