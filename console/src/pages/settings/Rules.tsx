import Accordion from '@mui/material/Accordion'
import AccordionDetails from '@mui/material/AccordionDetails'
import AccordionSummary from '@mui/material/AccordionSummary'
import Box from '@mui/material/Box'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useId, useState } from 'react'
import * as v from 'valibot'
import { api, revision, take, type Schemas } from '../../api/client'
import { policiesQuery, queryClient, signersQuery } from '../../api/queries'
import { Choice, Field, Tick } from '../../parts/form/Field'
import { Form } from '../../parts/form/Form'
import { Loaded } from '../../parts/Loaded'
import { useMay } from '../../parts/May'
import { Facts, FieldGrid, Panel, Quiet, Stack } from '../../parts/Panel'
import { words } from '../../parts/words'
import { command, options } from '../../parts/command'

type Policy = Schemas['Policy']
type Rules = Policy['rules']

const numbers = {
  renewal_days: 'Renewal period before expiry (days)',
  margin_days: 'Safety margin (days)',
  turnaround_days: 'Turnaround of the signer (days)',
  max_lifetime_days: 'Maximum lifetime (days; 0: any)',
  min_rsa_bits: 'Minimum RSA key (bits)',
  min_ec_bits: 'Minimum elliptic curve key (bits)',
  read_minutes: 'Interval between readings (minutes)',
} as const

const switches = {
  short_names: 'Also request short names',
  address_names: 'Also request IP addresses',
  cluster_names: 'Also request the names of the cluster',
  node_wildcard: 'Request a wildcard instead of the names of nodes',
  keep_keys: 'Keep keys that the service made',
  check_revocation: 'Check revocation (OCSP, revocation lists)',
  keep_holidays: 'Touch no device on holidays',
  root_pins_first: 'Wait until those who pinned a root have confirmed the new one',
  weak_keys: 'Allow RSA 1024 and SHA-1',
} as const

const choices = { approval: 'Approval by', signer: 'Default signer', renewal_key: 'Key of a replacement' } as const
const lists = {
  required_names: 'Required names',
  name_prefixes: 'Service labels to request',
  service_domains: 'Service domains',
} as const
const times = {
  windows: 'Windows in which devices may be touched',
  freezes: 'Freezes in which no device is touched',
} as const
const labels = { ...numbers, ...switches, ...choices, ...lists, ...times }

const whole = (what: string) => v.pipe(v.string(), v.regex(/^\d*$/, `${what} is a whole number, or empty.`))
const schema = v.object({
  renewal_days: whole(numbers.renewal_days),
  margin_days: whole(numbers.margin_days),
  turnaround_days: whole(numbers.turnaround_days),
  max_lifetime_days: whole(numbers.max_lifetime_days),
  min_rsa_bits: whole(numbers.min_rsa_bits),
  min_ec_bits: whole(numbers.min_ec_bits),
  read_minutes: whole(numbers.read_minutes),
  short_names: v.boolean(),
  address_names: v.boolean(),
  cluster_names: v.boolean(),
  node_wildcard: v.boolean(),
  keep_keys: v.boolean(),
  check_revocation: v.boolean(),
  keep_holidays: v.boolean(),
  root_pins_first: v.boolean(),
  weak_keys: v.boolean(),
  windows: v.string(),
  freezes: v.string(),
  approval: v.string(),
  signer: v.string(),
  renewal_key: v.string(),
  required_names: v.string(),
  name_prefixes: v.string(),
  service_domains: v.string(),
})
type Values = v.InferOutput<typeof schema>
type Name = keyof typeof labels

/** valuesOf are rules as the form shows them; what is not said is empty. */
export function valuesOf(r: Rules): Values {
  const number = (n: number | null | undefined) => (n === null || n === undefined ? '' : String(n))
  return {
    renewal_days: number(r.renewal_days),
    margin_days: number(r.margin_days),
    turnaround_days: number(r.turnaround_days),
    max_lifetime_days: number(r.max_lifetime_days),
    min_rsa_bits: number(r.min_rsa_bits),
    min_ec_bits: number(r.min_ec_bits),
    read_minutes: number(r.read_minutes),
    short_names: r.short_names ?? false,
    address_names: r.address_names ?? false,
    cluster_names: r.cluster_names ?? false,
    node_wildcard: r.node_wildcard ?? false,
    keep_keys: r.keep_keys ?? false,
    check_revocation: r.check_revocation ?? false,
    keep_holidays: r.keep_holidays ?? false,
    root_pins_first: r.root_pins_first ?? false,
    weak_keys: r.weak_keys ?? false,
    windows: (r.windows ?? []).join('\n'),
    freezes: (r.freezes ?? []).join('\n'),
    approval: r.approval ?? '',
    signer: r.signer ?? '',
    renewal_key: r.renewal_key ?? '',
    required_names: (r.required_names ?? []).join(' '),
    name_prefixes: (r.name_prefixes ?? []).join(' '),
    service_domains: (r.service_domains ?? []).join(' '),
  }
}

/** rulesOf lays what was changed over the rules that were there; an emptied field is said no more. */
export function rulesOf(before: Rules, changed: Partial<Values>): Rules {
  const out: Record<string, unknown> = { ...before }
  for (const [name, value] of Object.entries(changed)) {
    if (name in numbers) out[name] = value === '' ? undefined : Number(value)
    else if (name in lists) out[name] = words(String(value))
    else if (name in times)
      out[name] = String(value)
        .split('\n')
        .map((line) => line.trim())
        .filter(Boolean)
    else out[name] = value === '' && name !== 'signer' ? undefined : value
  }
  return Object.fromEntries(Object.entries(out).filter(([, value]) => value !== undefined))
}

/** Rules shows the policy of the fleet, and where sites and devices differ from it. */
export function Rules() {
  const all = useQuery(policiesQuery)
  const [begun, setBegun] = useState<string[]>([])
  const id = useId()
  const admin = useMay('admin')
  return (
    <Panel title="Policy" term="policy">
      <Loaded query={all}>
        {(list) => (
          <Stack>
            {[
              ...list,
              ...begun
                .filter((scope) => !list.some((p) => p.scope === scope))
                .map((scope): Policy => ({ scope, rules: {}, revision: 0 })),
            ].map((p, i) => (
              <Accordion
                key={p.scope}
                slotProps={{ heading: { component: 'h3' } }}
                defaultExpanded={i === 0 || begun.includes(p.scope)}
                disableGutters
              >
                <AccordionSummary>
                  <Typography sx={{ fontWeight: 600 }}>{p.scope}</Typography>
                </AccordionSummary>
                <AccordionDetails>{admin ? <EditRules policy={p} /> : <Facts rows={told(p.rules)} />}</AccordionDetails>
              </Accordion>
            ))}
            {admin ? (
              <Form
                id={id}
                label="Rules for another scope"
                schema={v.object({
                  scope: v.pipe(
                    v.string(),
                    v.trim(),
                    v.regex(/^(site|tag|device)\/./, 'Write site/NAME, tag/NAME or device/NAME.'),
                  ),
                })}
                start={{ scope: '' }}
                again
                submit="Start"
                said="Fill in the rules and save them"
                of="views"
                send={(x) => Promise.resolve(x.scope)}
                done={(scope) => setBegun([...begun, scope])}
              >
                <Field
                  name="scope"
                  label="Add rules for a site or device"
                  help="site/NAME, tag/NAME or device/NAME"
                  sx={{ maxWidth: 340 }}
                />
              </Form>
            ) : (
              <Quiet>Changing rules needs the role admin.</Quiet>
            )}
          </Stack>
        )}
      </Loaded>
    </Panel>
  )
}

function told(r: Rules): [string, string][] {
  return Object.entries(r)
    .filter(([name]) => name in labels)
    .map(([name, value]) => [
      labels[name as Name],
      Array.isArray(value)
        ? value.join(name in times ? '; ' : ' ')
        : typeof value === 'boolean'
          ? value
            ? 'yes'
            : 'no'
          : String(value),
    ])
}

const flagOf: Partial<Record<Name, string>> = {
  renewal_days: 'renewal',
  margin_days: 'margin',
  turnaround_days: 'turnaround',
  max_lifetime_days: 'max-lifetime',
  min_rsa_bits: 'min-rsa',
  min_ec_bits: 'min-ec',
  required_names: 'require-name',
  name_prefixes: 'name-prefix',
  service_domains: 'service-domain',
  windows: 'window',
  freezes: 'freeze',
}

/** commandOf is the command that makes the changes of a policy; none where one empties what a command cannot. */
function commandOf(scope: string, changed: Partial<Values>) {
  const said = Object.entries(changed).map(([name, value]) => {
    const flag = flagOf[name as Name] ?? name.replaceAll('_', '-')
    if (typeof value === 'boolean') return [`--${flag}=${String(value)}`]
    if (name in lists || name in times) {
      const all = (name in lists ? words(value) : value.split('\n')).filter((one) => one.trim() !== '')
      return options(flag, all.length > 0 ? all : [''])
    }
    return value === '' && name !== 'signer' ? undefined : options(flag, [value])
  })
  if (said.length === 0 || said.includes(undefined)) return ''
  return command('policy', 'set', scope, ...said.flatMap((one) => one ?? []))
}

function EditRules({ policy }: { policy: Policy }) {
  const [seen, setSeen] = useState(policy) // what the form began with: a change by somebody else meanwhile is told of
  const signers = useQuery(signersQuery).data ?? []
  const id = useId()
  return (
    <Form
      id={id}
      label={`Rules of ${policy.scope}`}
      schema={schema}
      start={valuesOf(policy.rules)}
      submit="Save and re-evaluate the fleet"
      of="policies"
      send={(_, changed) =>
        take(
          api.PUT('/api/v1/policies', {
            params: { header: revision(seen) },
            body: { scope: policy.scope, rules: rulesOf(seen.rules, changed) },
          }),
        )
      }
      command={(_, changed) => commandOf(policy.scope, changed)}
      done={setSeen}
      guard={{
        labels,
        look: async () => {
          const now = (await queryClient.query({ ...policiesQuery, staleTime: 0 })).find(
            (p) => p.scope === policy.scope,
          ) ?? { scope: policy.scope, rules: {}, revision: 0 }
          setSeen(now)
          return valuesOf(now.rules)
        },
      }}
    >
      <FieldGrid columns={3}>
        {(Object.keys(numbers) as (keyof typeof numbers)[]).map((name) => (
          <Field key={name} name={name} label={numbers[name]} type="number" />
        ))}
        <Choice
          name="approval"
          label={choices.approval}
          options={[
            { value: '', label: 'not said here' },
            { value: 'nobody', label: 'nobody' },
            { value: 'anybody', label: 'any operator' },
            { value: 'another', label: 'another than the requester' },
          ]}
        />
        <Choice
          name="signer"
          label={choices.signer}
          options={[{ value: '', label: 'nobody' }, ...signers.map((s) => ({ value: s.name, label: s.name }))]}
        />
        <Choice
          name="renewal_key"
          label={choices.renewal_key}
          options={[
            { value: '', label: 'not said here' },
            { value: 'new', label: 'new key' },
            { value: 'same', label: 'current key, if possible' },
          ]}
        />
        <Field name="required_names" label={lists.required_names} help="separated by blanks" />
        <Field name="name_prefixes" label={lists.name_prefixes} help="separated by blanks" />
        <Field
          name="service_domains"
          label={lists.service_domains}
          help="separated by blanks; requested with these labels"
        />
        <Field
          name="windows"
          label={times.windows}
          multiline
          minRows={2}
          sx={{ gridColumn: '1 / -1' }}
          help="one per line, as calendars write them (RFC 5545): DTSTART;TZID=Europe/Oslo:20261201T220000 RRULE:FREQ=WEEKLY;BYDAY=TU,TH DURATION:PT4H"
        />
        <Field
          name="freezes"
          label={times.freezes}
          multiline
          minRows={2}
          sx={{ gridColumn: '1 / -1' }}
          help="one per line: 2026-12-20/2027-01-03 end of the year"
        />
      </FieldGrid>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 2 }}>
        {(Object.keys(switches) as (keyof typeof switches)[])
          .filter((name) => name !== 'weak_keys' || policy.scope.startsWith('device/'))
          .map((name) => (
            <Tick key={name} name={name} label={switches[name]} />
          ))}
      </Box>
    </Form>
  )
}
