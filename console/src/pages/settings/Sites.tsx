import Link from '@mui/material/Link'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink } from 'react-router'
import * as v from 'valibot'
import { api, revision, take, type Schemas } from '../../api/client'
import { queryClient, sitesQuery } from '../../api/queries'
import { Collection } from '../../parts/Collection'
import { EditRemove } from '../../parts/EditRemove'
import { Choice, Field } from '../../parts/form/Field'
import { FormDialog } from '../../parts/form/FormDialog'
import { useTyped } from '../../parts/form/Form'
import { HostKey, placeOf, unpinned } from '../../parts/HostKey'
import { May } from '../../parts/May'
import { FieldGrid, Quiet, Row } from '../../parts/Panel'
import { some } from '../../parts/words'
import { command, option, options } from '../../parts/command'

type Site = Schemas['Site']
const ways: Record<Site['way'], string> = {
  direct: 'reached directly',
  jump: 'through an SSH jump host',
  socks: 'through a SOCKS5 proxy',
}

const fields = v.object({
  name: v.pipe(v.string(), v.trim(), v.nonEmpty('Name is needed.')),
  way: v.string(),
  address: v.string(),
  port: v.pipe(v.string(), v.regex(/^\d{0,5}$/, 'Port is a number from 1 to 65535.')),
  user: v.string(),
  password: v.string(),
  pin: v.string(),
  pinnedAt: v.string(),
  organization: v.string(),
  unit: v.string(),
  locality: v.string(),
  state: v.string(),
  email: v.string(),
  country: v.pipe(v.string(), v.regex(/^([A-Za-z]{2})?$/, 'Country has two letters.')),
  most: v.pipe(v.string(), v.regex(/^\d*$/, 'Simultaneous links is a whole number, or empty.')),
  behind: v.string(),
  read: v.picklist(['yes', 'no']),
  presence: v.string(),
  holidays: v.pipe(
    v.string(),
    v.regex(/^\s*(BEGIN:VCALENDAR[\s\S]*)?$/, 'An iCalendar file begins with BEGIN:VCALENDAR.'),
  ),
})
type Values = v.InferOutput<typeof fields>

const schema = v.pipe(
  fields,
  v.forward(
    v.check((s) => s.way === 'direct' || s.address.trim() !== '', 'Address is needed.'),
    ['address'],
  ),
  v.forward(
    v.check(
      (s) =>
        s.way !== 'jump' ||
        (s.pin !== '' && s.pinnedAt === placeOf({ site: s.behind, address: s.address, port: s.port })),
      unpinned,
    ),
    ['pin'],
  ),
)

const labels: Partial<Record<keyof Values, string>> = {
  way: 'Connection',
  address: 'Address',
  port: 'Port',
  user: 'User',
  pin: 'Host key',
  organization: 'Organization in requests',
  unit: 'Unit in requests',
  locality: 'Locality in requests',
  state: 'State in requests',
  email: 'E-mail in requests',
  country: 'Country in requests',
  most: 'Simultaneous links',
  behind: 'Reached through',
  read: 'Readings',
  presence: 'When it can be reached',
  holidays: 'Holidays',
}

function valuesOf(s: Site | undefined): Values {
  const port = s?.port ? String(s.port) : '22'
  return {
    name: s?.name ?? '',
    way: s?.way ?? 'direct',
    address: s?.address ?? '',
    port,
    user: s?.user ?? '',
    password: '',
    pin: s?.pin ?? '',
    pinnedAt: s?.pin ? placeOf({ site: s.behind, address: s.address, port }) : '',
    behind: s?.behind ?? '',
    organization: s?.subject.organization ?? '',
    unit: s?.subject.unit ?? '',
    locality: s?.subject.locality ?? '',
    state: s?.subject.state ?? '',
    email: s?.subject.email ?? '',
    country: s?.subject.country ?? '',
    most: s?.most_links ? String(s.most_links) : '',
    read: s?.paused ? 'no' : 'yes',
    presence: (s?.presence ?? []).join('\n'),
    holidays: '',
  }
}

/** Sites are the places with a way in, and what the requests of their devices say. */
export function Sites() {
  return (
    <Collection
      title="Sites"
      term="site"
      what="Changing sites"
      add="Add a site"
      query={useQuery(sitesQuery)}
      none="No sites: every device is reached directly."
      row={(s, edit) => <SiteRow s={s} edit={edit} />}
      form={(was, close) => <EditSite was={was} close={close} />}
    />
  )
}

function SiteRow({ s, edit }: { s: Site; edit: () => void }) {
  const subject = Object.entries(s.subject).filter(([, value]) => typeof value === 'string' && value !== '')
  return (
    <Row>
      <Link
        component={RouterLink}
        to={`/devices?site=${encodeURIComponent(s.name)}`}
        sx={{ fontWeight: 600, minWidth: 110 }}
      >
        <bdi>{s.name}</bdi>
      </Link>
      <span>
        {ways[s.way]} {s.address && `${s.address}:${s.port}`}
        {s.behind && `, reached through ${s.behind}`}
      </span>
      <Quiet grow>
        {subject.map(([name, value]) => `${name} ${value}`).join(', ')}
        {s.most_links > 0 && ` at most ${s.most_links} links at once`}
        {s.paused && ' paused: its slots are read only when asked'}
        {s.away && ' away: it cannot be expected to be reached now'}
        {s.holidays.length > 0 && ` ${some(s.holidays.length, 'holiday')} in the next twelve months`}
      </Quiet>
      <May role="admin">
        <EditRemove
          what={`the site ${s.name}`}
          of="sites"
          edit={edit}
          command={command('site', 'remove', s.name)}
          remove={
            !s.implied && (() => take(api.DELETE('/api/v1/sites/{name}', { params: { path: { name: s.name } } })))
          }
        >
          <Typography>
            Its devices stay, and are reached directly from then on. The secret of its jump host is deleted.
          </Typography>
        </EditRemove>
      </May>
    </Row>
  )
}

function EditSite({ was, close }: { was: Site | undefined; close: () => void }) {
  const [seen, setSeen] = useState(was)
  return (
    <FormDialog
      title={was ? `Edit ${was.name}` : 'Add a site'}
      wide
      schema={schema}
      start={valuesOf(was)}
      submit="Save"
      of="sites"
      send={(x) => {
        const change = {
          way: x.way as Site['way'],
          most_links: Number(x.most),
          paused: x.read === 'no',
          presence: x.presence.split('\n').filter((line) => line.trim() !== ''),
          behind: x.way === 'direct' ? '' : x.behind,
          ...(x.holidays.trim() !== '' && { holidays: x.holidays.trim() }),
          subject: {
            ...seen?.subject,
            organization: x.organization,
            unit: x.unit,
            locality: x.locality,
            state: x.state,
            country: x.country.toUpperCase(),
            email: x.email,
          },
          ...(x.way !== 'direct' && { address: x.address.trim(), port: Number(x.port) }),
          ...(x.way === 'jump' && { user: x.user, pin: x.pin, ...(x.password && { password: x.password }) }),
        }
        return seen
          ? take(
              api.PATCH('/api/v1/sites/{name}', {
                params: { path: { name: seen.name }, header: revision(seen) },
                body: change,
              }),
            )
          : take(api.POST('/api/v1/sites', { body: { name: x.name, ...change } }))
      }}
      command={(x, changed) => (was ? editing(was.name, changed) : adding(x))}
      {...(was && {
        guard: {
          labels,
          look: async () => {
            const now = (await queryClient.query({ ...sitesQuery, staleTime: 0 })).find((s) => s.name === was.name)
            setSeen(now)
            return valuesOf(now)
          },
        },
      })}
      close={close}
    >
      <Fields was={was} />
    </FormDialog>
  )
}

const subject = (x: Partial<Values>) =>
  (['organization', 'unit', 'locality', 'state', 'country', 'email'] as const).flatMap((name) => option(name, x[name]))

const present = (x: Partial<Values>) =>
  options(
    'present',
    (x.presence ?? '').split('\n').filter((line) => line.trim() !== ''),
  )

/** adding is the command that adds a site. */
function adding(x: Values) {
  const jump = x.way === 'jump'
  return command(
    ...['site', 'add', x.name.trim() || 'NAME', ...(x.way === 'direct' ? [] : options(x.way, [x.address || 'HOST']))],
    ...(x.way === 'direct' ? [] : [...option('port', x.port), ...option('behind', x.behind)]),
    ...(jump ? [...option('user', x.user), ...option('pin', x.pin)] : []),
    ...(jump && x.password ? ['--password-file', 'FILE'] : []),
    ...[...subject(x), ...option('links', x.most), ...present(x)],
    ...(x.holidays.trim() ? ['--holidays', 'FILE'] : []),
  )
}

/** editing is the command that makes the changes of a site. The way itself is not changed by a command. */
function editing(name: string, x: Partial<Values>) {
  if (x.way !== undefined || Object.keys(x).length === 0) return ''
  const said = (flag: string, value: string | undefined) => (value === undefined ? [] : options(flag, [value]))
  return command(
    ...['site', 'edit', name, ...said('address', x.address), ...said('port', x.port), ...said('user', x.user)],
    ...[...said('pin', x.pin), ...said('behind', x.behind), ...(x.password ? ['--password-file', 'FILE'] : [])],
    ...(['organization', 'unit', 'locality', 'state', 'country', 'email'] as const).flatMap((n) => said(n, x[n])),
    ...[...said('links', x.most === '' ? '0' : x.most), ...present(x)],
    ...(x.read === undefined ? [] : [`--paused=${String(x.read === 'no')}`]),
    ...(x.holidays?.trim() ? ['--holidays', 'FILE'] : []),
  )
}

function Fields({ was }: { was: Site | undefined }) {
  const x = useTyped<Values>()
  const others = (useQuery(sitesQuery).data ?? []).filter((s) => s.name !== was?.name && s.way !== 'direct')
  return (
    <FieldGrid>
      <Field name="name" label="Name" disabled={Boolean(was)} autoFocus={!was} />
      <Choice
        name="way"
        label="Connection"
        options={Object.entries(ways).map(([value, label]) => ({ value, label }))}
      />
      {x.way !== 'direct' && (
        <Field name="address" label={x.way === 'jump' ? 'Address of the jump host' : 'Address of the proxy'} />
      )}
      {x.way !== 'direct' && (
        <Field name="port" label="Port" type="number" help={x.way === 'socks' ? 'usually 1080' : undefined} />
      )}
      {x.way !== 'direct' && (
        <Choice
          name="behind"
          label="Reached through"
          options={[
            { value: '', label: 'directly' },
            ...others.map((s) => ({ value: s.name, label: `the site ${s.name}` })),
          ]}
        />
      )}
      {x.way === 'jump' && <Field name="user" label="User" />}
      {x.way === 'jump' && (
        <Field
          name="password"
          label={was ? 'New password' : 'Password'}
          type="password"
          complete="new-password"
          help={was ? 'empty: stays as it is; needed again for another address, port or host key' : undefined}
        />
      )}
      {x.way === 'jump' && <HostKey at={{ site: x.behind, address: x.address, port: x.port }} what="The jump host" />}
      <Field name="organization" label="Organization in requests" />
      <Field name="unit" label="Unit in requests" />
      <Field name="locality" label="Locality in requests" />
      <Field name="state" label="State in requests" />
      <Field name="country" label="Country in requests" help="two letters" />
      <Field name="email" label="E-mail in requests" help="only if forms require one" />
      <Field name="most" label="Simultaneous links" type="number" help="empty: no limit" />
      <Choice
        name="read"
        label="Readings"
        options={[
          { value: 'yes', label: 'on schedule' },
          { value: 'no', label: 'paused: only on request' },
        ]}
      />
      <Field
        name="holidays"
        label="Holidays"
        multiline
        maxRows={6}
        help="paste an iCalendar file (.ics) with the days off; they are no working days of signers. Empty: unchanged"
      />
      <Field
        name="presence"
        label="When it can be reached"
        multiline
        help="one window per line (RFC 5545); empty: always. DTSTART;TZID=Europe/Oslo:20261201T080000 RRULE:FREQ=WEEKLY;BYDAY=TU DURATION:PT10H"
      />
    </FieldGrid>
  )
}
