import { useQuery } from '@tanstack/react-query'
import { useId } from 'react'
import * as v from 'valibot'
import { api, take, type Schemas } from '../../api/client'
import { signInPolicyQuery } from '../../api/queries'
import { Field, Tick } from '../../parts/form/Field'
import { Form } from '../../parts/form/Form'
import { Loaded } from '../../parts/Loaded'
import { FieldGrid, Panel } from '../../parts/Panel'
import { command } from '../../parts/command'
import { roles, type Role } from './roles'

type Policy = Schemas['SignInPolicy']

const number = v.pipe(v.string(), v.regex(/^\d{1,6}$/, 'This is a number from 0.'))

const factorRoles = Object.keys(roles) as Role[]

const schema = v.object({
  console_hours: number,
  console_idle_minutes: number,
  client_days: number,
  client_idle_days: number,
  confirm_minutes: number,
  viewer: v.boolean(),
  approver: v.boolean(),
  operator: v.boolean(),
  admin: v.boolean(),
})

type Values = v.InferOutput<typeof schema>

const valuesOf = (p: Policy): Values => ({
  console_hours: String(p.console_hours),
  console_idle_minutes: String(p.console_idle_minutes),
  client_days: String(p.client_days),
  client_idle_days: String(p.client_idle_days),
  confirm_minutes: String(p.confirm_minutes),
  viewer: p.factor_for.includes('viewer'),
  approver: p.factor_for.includes('approver'),
  operator: p.factor_for.includes('operator'),
  admin: p.factor_for.includes('admin'),
})

const policyOf = (x: Values): Policy => ({
  console_hours: Number(x.console_hours),
  console_idle_minutes: Number(x.console_idle_minutes),
  client_days: Number(x.client_days),
  client_idle_days: Number(x.client_idle_days),
  confirm_minutes: Number(x.confirm_minutes),
  factor_for: factorRoles.filter((r) => x[r]),
})

/** SignInRules are how long sessions last, when a confirmation is asked for, and who needs a second factor. */
export function SignInRules() {
  const policy = useQuery(signInPolicyQuery)
  return (
    <Panel title="Rules for signing in">
      <Loaded query={policy}>{(p) => <Rules key={JSON.stringify(p)} policy={p} />}</Loaded>
    </Panel>
  )
}

function Rules({ policy }: { policy: Policy }) {
  const id = useId()
  return (
    <Form
      id={id}
      label="Rules for signing in"
      schema={schema}
      start={valuesOf(policy)}
      submit="Save"
      of="signInPolicy"
      command={(x) =>
        command(
          'sign-in',
          'set',
          ...['console-hours', x.console_hours, 'console-idle', x.console_idle_minutes, 'client-days', x.client_days]
            .concat(['client-idle', x.client_idle_days, 'confirm', x.confirm_minutes])
            .map((word, i) => (i % 2 ? word : `--${word}`)),
          '--factor-for',
          factorRoles.filter((r) => x[r]).join(',') || 'nobody',
        )
      }
      send={(x) => take(api.PUT('/api/v1/sign-in-policy', { body: policyOf(x) }))}
    >
      <FieldGrid columns={3}>
        <Field name="console_hours" label="Console session (hours)" type="number" />
        <Field
          name="console_idle_minutes"
          label="Console without use (minutes)"
          type="number"
          help="0: it does not end for that."
        />
        <Field
          name="confirm_minutes"
          label="Confirm after (minutes)"
          type="number"
          help="What cannot be taken back asks again for the password or a code; 0: never."
        />
        <Field name="client_days" label="Client session (days)" type="number" />
        <Field
          name="client_idle_days"
          label="Client without use (days)"
          type="number"
          help="0: it does not end for that."
        />
      </FieldGrid>
      {factorRoles.map((r) => (
        <Tick key={r} name={r} label={`Role ${r} needs a second factor`} />
      ))}
    </Form>
  )
}
