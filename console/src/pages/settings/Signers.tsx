import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import * as v from 'valibot'
import { api, revision, take, type Schemas } from '../../api/client'
import { queryClient, signersQuery, useChange } from '../../api/queries'
import { Collection } from '../../parts/Collection'
import { EditRemove } from '../../parts/EditRemove'
import { Choice, Field, Tick } from '../../parts/form/Field'
import { FormDialog } from '../../parts/form/FormDialog'
import { Foreign } from '../../parts/Foreign'
import { May } from '../../parts/May'
import { FieldGrid, Row } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { BenchLevels } from './Bench'
import { AsCommand } from '../../parts/AsCommand'
import { command, flags, option, options } from '../../parts/command'

type Signer = Schemas['Signer']
type Way = NonNullable<Schemas['Proof']['how']>
const proofs: Record<Way, string> = { mail: 'by mail', dns: 'by a DNS record', file: 'by a file' }

const whole = (what: string) => v.pipe(v.string(), v.regex(/^\d*$/, `${what} is a whole number, or empty.`))
const schema = v.object({
  name: v.pipe(v.string(), v.trim(), v.nonEmpty('Name is needed.')),
  about: v.string(),
  contact: v.string(),
  turnaround: whole('Turnaround'),
  most: whole('Longest certificate'),
  least: whole('Shortest certificate'),
  profile: v.string(),
  how: v.string(),
  who: v.string(),
  proofDays: whole('Validity'),
  notes: v.string(),
  order: v.string(),
  orderBy: v.string(),
  orderUntil: v.pipe(v.string(), v.regex(/^(\d{4}-\d{2}-\d{2})?$/, 'Write the last day as 2028-06-30.')),
  domains: v.string(),
  trusted: v.boolean(),
  wildcards: v.boolean(),
  addresses: v.boolean(),
})
type Values = v.InferOutput<typeof schema>

const labels: Record<keyof Values, string> = {
  name: 'Name',
  about: 'About',
  contact: 'Whom to ask',
  turnaround: 'Turnaround (working days)',
  most: 'Longest certificate (days)',
  least: 'Shortest certificate (days)',
  profile: 'Certificate profile',
  how: 'Domain validation',
  who: 'Who does that',
  proofDays: 'Validity of a validation (days)',
  order: 'Order number',
  orderBy: 'Order approved by',
  orderUntil: 'Last day of the order',
  notes: 'Steps of its portal, and what else the person at the desk must know',
  domains: 'Domains that it signs under',
  trusted: 'Publicly trusted',
  wildcards: 'Signs wildcards',
  addresses: 'Signs addresses',
}

function valuesOf(s: Signer | undefined): Values {
  return {
    name: s?.name ?? '',
    about: s?.about ?? '',
    contact: s?.contact ?? '',
    turnaround: s?.turnaround_days ? String(s.turnaround_days) : '',
    most: s?.max_days ? String(s.max_days) : '',
    least: s?.min_days ? String(s.min_days) : '',
    profile: s?.terms.profile ?? '',
    how: s?.proof.how ?? '',
    who: s?.proof.who ?? '',
    proofDays: s?.proof.days ? String(s.proof.days) : '',
    notes: s?.notes ?? '',
    order: s?.order.number ?? '',
    orderBy: s?.order.approved_by ?? '',
    orderUntil: s?.order.until ?? '',
    domains: (s?.terms.domains ?? []).join(', '),
    trusted: s?.terms.public ?? false,
    wildcards: s ? (s.terms.wildcards ?? false) : true,
    addresses: s ? (s.terms.addresses ?? false) : true,
  }
}

/** Signers are those who sign requests, with what the person at the desk must know of each. */
export function Signers() {
  return (
    <Collection
      title="Signers"
      term="signer"
      what="Changing signers"
      add="Add a signer"
      query={useQuery(signersQuery)}
      row={(s, edit) => <SignerRow s={s} edit={edit} />}
      form={(was, close) => <EditSigner was={was} close={close} />}
    />
  )
}

function SignerRow({ s, edit }: { s: Signer; edit: () => void }) {
  const own = s.name !== 'bench' && s.name !== 'desk' && s.name !== 'device' && s.name !== 'own-key'
  const facts = [
    s.contact,
    s.turnaround_days && `${s.turnaround_days} working days`,
    s.max_days && `certificates of up to ${s.max_days} days`,
    s.min_days && `of at least ${s.min_days} days`,
    s.terms.public && 'publicly trusted',
    (s.terms.domains ?? []).length > 0 && `signs under ${(s.terms.domains ?? []).join(', ')}`,
    s.order.number && `order ${s.order.number}${s.order.until ? `, until ${s.order.until}` : ''}`,
    s.proof.how && `domains are proven ${proofs[s.proof.how]}${s.proof.who ? `, ${s.proof.who} does it` : ''}`,
  ].filter(Boolean)
  return (
    <Row>
      <Typography sx={{ fontWeight: 600, minWidth: 110 }}>{s.name}</Typography>
      <Box sx={{ flexGrow: 1, flexBasis: 300, minWidth: 0 }}>
        <bdi>{s.about}</bdi>
        <Typography variant="body2" sx={{ color: 'text.secondary' }}>
          {facts.join('; ')}
        </Typography>
        {(s.issuers ?? []).map((i) => (
          <Issuer key={i.key_sha256} signer={s.name} issuer={i} />
        ))}
        {(s.habits ?? []).map((habit) => (
          <Typography key={habit} variant="body2" sx={{ color: 'warning.main' }}>
            {habit}
          </Typography>
        ))}
        {s.name === 'bench' && <BenchLevels />}
        {s.notes && (
          <Typography variant="body2" sx={{ whiteSpace: 'pre-line' }}>
            <bdi>{s.notes}</bdi>
          </Typography>
        )}
      </Box>
      {own && (
        <May role="admin">
          <EditRemove
            what={`the signer ${s.name}`}
            of="signers"
            edit={edit}
            command={command('signer', 'remove', s.name)}
            remove={() => take(api.DELETE('/api/v1/signers/{name}', { params: { path: { name: s.name } } }))}
          >
            <Typography>Its settings are deleted. Certificates that it signed stay valid.</Typography>
          </EditRemove>
        </May>
      )}
    </Row>
  )
}

/** Issuer is an authority with which a signer signs; one that was learnt from an answer can be confirmed. */
function Issuer({ signer, issuer: i }: { signer: string; issuer: NonNullable<Signer['issuers']>[number] }) {
  const confirm = useChange({
    of: 'signers',
    do: () =>
      take(
        api.POST('/api/v1/signers/{name}/issuers', {
          params: { path: { name: signer } },
          body: { sha256: i.key_sha256 },
        }),
      ),
  })
  const forget = useChange({
    of: 'signers',
    do: () =>
      take(
        api.DELETE('/api/v1/signers/{name}/issuers/{key}', { params: { path: { name: signer, key: i.key_sha256 } } }),
      ),
  })
  return (
    <Box sx={{ display: 'flex', flexWrap: 'wrap', alignItems: 'center', columnGap: 1 }}>
      <Typography variant="body2">
        Signs with <Foreign>{i.subject}</Foreign> (
        {i.confirmed ? `confirmed by ${i.known_by}` : 'learnt from an answer, not confirmed'})
      </Typography>
      <May role="admin">
        {!i.confirmed && (
          <Button size="small" onClick={() => confirm.mutate(undefined)} disabled={confirm.isPending}>
            Confirm
          </Button>
        )}
        <Button
          size="small"
          color="inherit"
          onClick={() => forget.mutate(undefined)}
          disabled={forget.isPending}
          aria-label={`Forget the issuer ${i.subject}`}
        >
          Forget
        </Button>
      </May>
      <May role="admin">
        <AsCommand command={command('signer', 'issuer', i.confirmed ? 'remove' : 'add', signer, i.key_sha256)} />
      </May>
      {(confirm.error ?? forget.error) && <Problem error={confirm.error ?? forget.error} />}
    </Box>
  )
}

function commandOf(x: Values) {
  return command(
    ...['signer', 'set', x.name.trim() || 'NAME', ...option('about', x.about), ...option('contact', x.contact)],
    ...[...option('turnaround', x.turnaround), ...option('max-days', x.most), ...option('min-days', x.least)],
    ...[...option('profile', x.profile), ...option('proof', x.how), ...option('prover', x.how && x.who)],
    ...[...option('proof-days', x.how && x.proofDays), ...option('order', x.order)],
    ...[...option('order-approved-by', x.orderBy), ...option('order-until', x.orderUntil)],
    ...options('domain', x.domains.split(/[\s,]+/).filter(Boolean)),
    ...flags({ public: x.trusted, wildcards: x.wildcards, addresses: x.addresses }),
    ...option('notes', x.notes),
  )
}

function EditSigner({ was, close }: { was: Signer | undefined; close: () => void }) {
  const [seen, setSeen] = useState(was)
  const number = (text: string) => (text === '' ? {} : { n: Number(text) })
  return (
    <FormDialog
      title={was ? `Edit ${was.name}` : 'Add a signer'}
      wide
      schema={schema}
      start={valuesOf(was)}
      submit="Save"
      of="signers"
      send={(x) =>
        take(
          api.PUT('/api/v1/signers/{name}', {
            params: { path: { name: x.name }, header: revision(seen) },
            body: {
              about: x.about,
              contact: x.contact,
              notes: x.notes,
              ...('n' in number(x.turnaround) && { turnaround_days: Number(x.turnaround) }),
              ...('n' in number(x.most) && { max_days: Number(x.most) }),
              ...('n' in number(x.least) && { min_days: Number(x.least) }),
              terms: {
                ...seen?.terms,
                profile: x.profile,
                public: x.trusted,
                domains: x.domains.split(/[\s,]+/).filter(Boolean),
                wildcards: x.wildcards,
                addresses: x.addresses,
              },
              order: { number: x.order, approved_by: x.orderBy, until: x.orderUntil },
              proof: x.how ? { how: x.how as Way, who: x.who, ...(x.proofDays && { days: Number(x.proofDays) }) } : {},
            },
          }),
        )
      }
      command={commandOf}
      {...(was && {
        guard: {
          labels,
          look: async () => {
            const now = (await queryClient.query({ ...signersQuery, staleTime: 0 })).find((s) => s.name === was.name)
            setSeen(now)
            return valuesOf(now)
          },
        },
      })}
      close={close}
    >
      <FieldGrid>
        <Field name="name" label={labels.name} disabled={Boolean(was)} autoFocus={!was} />
        <Field name="about" label={labels.about} />
        <Field name="contact" label={labels.contact} />
        <Field name="turnaround" label={labels.turnaround} type="number" />
        <Field name="most" label={labels.most} type="number" />
        <Field name="least" label={labels.least} type="number" />
        <Field name="profile" label={labels.profile} />
        <Choice
          name="how"
          label={labels.how}
          options={[
            { value: '', label: 'not at all' },
            ...Object.entries(proofs).map(([value, label]) => ({ value, label })),
          ]}
        />
        <Field name="who" label={labels.who} />
        <Field name="proofDays" label={labels.proofDays} type="number" />
        <Field name="order" label={labels.order} />
        <Field name="orderBy" label={labels.orderBy} />
        <Field name="orderUntil" label={labels.orderUntil} help="such as 2028-06-30" />
        <Field name="domains" label={labels.domains} help="empty: any; with commas between them" />
        <Field name="notes" label={labels.notes} multiline minRows={2} sx={{ gridColumn: '1 / -1' }} />
      </FieldGrid>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', mt: 1 }}>
        <Tick name="trusted" label={labels.trusted} />
        <Tick name="wildcards" label={labels.wildcards} />
        <Tick name="addresses" label={labels.addresses} />
      </Box>
    </FormDialog>
  )
}
