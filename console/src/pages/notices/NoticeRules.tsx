import { useQuery } from '@tanstack/react-query'
import * as v from 'valibot'
import { api, revision, take, type Schemas } from '../../api/client'
import { noticeRulesQuery } from '../../api/queries'
import { Collection } from '../../parts/Collection'
import { EditRemove } from '../../parts/EditRemove'
import { conditions, type Condition } from '../../parts/Condition'
import { Field, Tick } from '../../parts/form/Field'
import { FormDialog } from '../../parts/form/FormDialog'
import { May } from '../../parts/May'
import { FieldGrid, Quiet, Row } from '../../parts/Panel'
import { words } from '../../parts/words'
import { command, flags, option, options } from '../../parts/command'

type Rule = Schemas['Rule']

const told = (Object.keys(conditions) as Condition[]).filter((c): c is Exclude<Condition, 'fresh'> => c !== 'fresh')

const schema = v.object({
  name: v.pipe(v.string(), v.trim(), v.nonEmpty('Name is needed.')),
  ...(Object.fromEntries(told.map((c) => [c, v.boolean()])) as Record<
    (typeof told)[number],
    v.BooleanSchema<undefined>
  >),
  expiring: v.boolean(),
  days: v.pipe(v.string(), v.regex(/^[\d\s,]*$/, 'Days are numbers, such as 30, 14, 3.')),
  site: v.string(),
  family: v.string(),
  owner: v.string(),
  tag: v.string(),
  to: v.pipe(v.string(), v.trim(), v.nonEmpty('A channel is needed.')),
  digest: v.pipe(v.string(), v.regex(/^(\d{1,2}:\d{2})?$/, 'A time such as 07:30, or empty.')),
  quiet: v.pipe(v.string(), v.regex(/^(\d{1,2}:\d{2}-\d{1,2}:\d{2})?$/, 'Hours such as 22:00-06:00, or empty.')),
  zone: v.string(),
  repeat: v.pipe(v.string(), v.regex(/^\d{0,3}$/, 'A number of days, or empty.')),
  escalate: v.string(),
  recovery: v.boolean(),
  paused: v.boolean(),
})
type Values = v.InferOutput<typeof schema>

function valuesOf(r: Rule | undefined): Values {
  return {
    name: r?.name ?? '',
    ...(Object.fromEntries(told.map((c) => [c, r?.conditions?.includes(c) ?? false])) as Record<
      (typeof told)[number],
      boolean
    >),
    expiring: r?.expiring ?? false,
    days: (r?.days ?? []).join(', '),
    site: r?.site ?? '',
    family: r?.family ?? '',
    owner: r?.owner ?? '',
    tag: r?.tag ?? '',
    to: (r?.to ?? []).join(', '),
    digest: r?.digest ?? '',
    quiet: r?.quiet ?? '',
    zone: r?.zone ?? '',
    repeat: r?.repeat_days ? String(r.repeat_days) : '',
    escalate: (r?.escalate ?? []).join(', '),
    recovery: r?.recovery ?? false,
    paused: r?.paused ?? false,
  }
}

/** NoticeRules are the rules by which people are told. */
export function NoticeRules() {
  return (
    <Collection
      title="Rules"
      what="Changing rules"
      add="Add a rule"
      query={useQuery(noticeRulesQuery)}
      none="No notices are sent. Add a channel first, then a rule."
      row={(r, edit) => <RuleRow r={r} edit={edit} />}
      form={(was, close) => <EditRule was={was} close={close} />}
    />
  )
}

/** means says a rule in words. */
export function means(r: Rule): string {
  const when = [...(r.conditions ?? []), ...(r.days?.length ? [`${r.days.join(', ')} days left`] : [])].join(', ')
  const of = Object.entries({ site: r.site, family: r.family, owner: r.owner, tag: r.tag })
    .filter(([, value]) => value)
    .map(([what, value]) => `${what} ${value}`)
  const how = [
    r.digest && `once a day at ${r.digest}`,
    r.quiet && `not from ${r.quiet.replace('-', ' to ')}`,
    r.repeat_days && `again after ${r.repeat_days} days${r.escalate?.length ? ` and to ${r.escalate.join(', ')}` : ''}`,
    r.recovery && 'also when it is over',
  ].filter(Boolean)
  if (r.expiring) of.push('CA certificates, domains, tokens')
  return `${when}${of.length ? ` (${of.join(', ')})` : ''} → ${r.to.join(', ')}${how.length ? `; ${how.join('; ')}` : ''}`
}

function RuleRow({ r, edit }: { r: Rule; edit: () => void }) {
  return (
    <Row label={`Rule ${r.name}`}>
      <strong>{r.name}</strong>
      <Quiet grow>
        {r.paused && 'paused: '}
        {means(r)}
      </Quiet>
      <May role="admin">
        <EditRemove
          what={`the rule ${r.name}`}
          of="rules"
          edit={edit}
          command={command('notice', 'remove-rule', r.name)}
          remove={() => take(api.DELETE('/api/v1/notice-rules/{name}', { params: { path: { name: r.name } } }))}
        />
      </May>
    </Row>
  )
}

function commandOf(x: Values) {
  const named = (['site', 'family', 'owner', 'tag', 'digest', 'quiet', 'zone', 'repeat'] as const).flatMap((name) =>
    option(name, x[name]),
  )
  const conditions = told.filter((c) => x[c])
  return command(
    ...['notice', 'rule', x.name.trim() || 'NAME', ...options('condition', conditions)],
    ...[...option('days', words(x.days).join(',')), ...flags({ expiring: x.expiring })],
    ...[...options('to', words(x.to)), ...named, ...options('escalate', words(x.escalate))],
    ...flags({ recovery: x.recovery, paused: x.paused }),
  )
}

function EditRule({ was, close }: { was: Rule | undefined; close: () => void }) {
  return (
    <FormDialog
      title={was ? `Edit ${was.name}` : 'Add a rule'}
      wide
      schema={schema}
      start={valuesOf(was)}
      submit="Save"
      of="rules"
      send={(x) =>
        take(
          api.PUT('/api/v1/notice-rules/{name}', {
            params: { path: { name: x.name }, header: revision(was ?? { revision: 0 }) },
            body: {
              conditions: told.filter((c) => x[c]),
              expiring: x.expiring,
              days: words(x.days).map(Number),
              site: x.site,
              family: x.family,
              owner: x.owner,
              tag: x.tag,
              to: words(x.to),
              digest: x.digest,
              quiet: x.quiet,
              zone: x.zone,
              repeat_days: Number(x.repeat),
              escalate: words(x.escalate),
              recovery: x.recovery,
              paused: x.paused,
            },
          }),
        )
      }
      command={commandOf}
      close={close}
    >
      <FieldGrid>
        <Field name="name" label="Name" disabled={Boolean(was)} autoFocus={!was} />
        <Field name="to" label="Channels" help="names, separated by commas" />
        <Field name="days" label="Days left" help="such as 30, 14, 3: a stage for each" />
        <Field name="digest" label="Once a day at" help="such as 07:30; empty: at once" />
        <Field name="quiet" label="Quiet hours" help="such as 22:00-06:00" />
        <Field name="zone" label="Time zone" help="such as Europe/Oslo; empty: UTC" />
        <Field name="repeat" label="Days between reminders" help="empty: none" />
        <Field name="escalate" label="Reminders also to" help="channels" />
        <Field name="site" label="Only this site" />
        <Field name="family" label="Only this family" />
        <Field name="owner" label="Only this owner" />
        <Field name="tag" label="Only this tag" />
      </FieldGrid>
      <Tick
        name="expiring"
        label="Notify about CA certificates, domain validations and tokens that expire, instead of slots (needs days left)"
      />
      <FieldGrid columns={4}>
        {told.map((c) => (
          <Tick key={c} name={c} label={c} />
        ))}
        <Tick name="recovery" label="Notify when it has ended" />
        <Tick name="paused" label="Paused" />
      </FieldGrid>
    </FormDialog>
  )
}
