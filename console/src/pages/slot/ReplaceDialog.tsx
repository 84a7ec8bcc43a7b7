import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useFormContext } from 'react-hook-form'
import { useNavigate } from 'react-router'
import * as v from 'valibot'
import { ApiError, api, take, type Schemas, type Slot } from '../../api/client'
import { deviceQuery, familiesQuery, policiesQuery, signersQuery } from '../../api/queries'
import { Choice, Field, Tick } from '../../parts/form/Field'
import { command, option } from '../../parts/command'
import { FormDialog } from '../../parts/form/FormDialog'
import { useTyped } from '../../parts/form/Form'
import { FieldGrid } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import { words } from '../../parts/words'
import { keyTypes } from '../slots/BatchDialog'
import { Rehearsal } from './Rehearsal'

const schema = v.object({
  signer: v.pipe(v.string(), v.nonEmpty('Signer is needed: the policy names none.')),
  key: v.string(),
  names: v.string(),
  when: v.string(),
  at: v.pipe(v.string(), v.regex(/^(\d{4}-\d{2}-\d{2}T\d{2}:\d{2})?$/, 'Choose a day and a time.')),
  stopAfter: v.string(),
  also: v.array(v.string()),
  unseen: v.boolean(),
  oneWay: v.boolean(),
})
type Terms = v.InferOutput<typeof schema>

const orderOf = (slot: Slot, t: Terms): Schemas['Order'] => ({
  device: slot.device,
  slot: slot.name,
  ...(t.also.length > 0 && { also: t.also }),
  signer: t.signer,
  ...(t.key && { key: t.key }),
  names: words(t.names),
  ...(t.when === 'window' && { next_window: true }),
  ...(t.when === 'at' && t.at && { at: new Date(t.at).toISOString() }),
  ...((t.stopAfter === 'sign' || t.stopAfter === 'trial') && { stop_after: t.stopAfter }),
  ...(t.unseen && { unseen: true }),
  ...(t.oneWay && { one_way: true }),
})

/**
 * ReplaceDialog asks who is to sign, and shows every step before anything is sent. Nobody is chosen unless the policy
 * names one.
 */
export function ReplaceDialog({ slot, close }: { slot: Slot; close: () => void }) {
  const signers = useQuery(signersQuery)
  const policies = useQuery(policiesQuery)
  const device = useQuery(deviceQuery(slot.device))
  const families = useQuery(familiesQuery)
  const navigate = useNavigate()
  const [oneWay, setOneWay] = useState(false)
  if (!signers.data || !policies.data || !device.data || !families.data) {
    const failed = [signers, policies, device, families].find((q) => q.error)
    // Nothing moves once it is shown.
    return failed ? <Problem error={failed.error} again={() => void failed.refetch()} /> : null
  }
  const others = device.data.slots.filter((s) => s.name !== slot.name)
  // The rules that are nearest to the device name the signer.
  const named = [`device/${slot.device}`, `site/${slot.site}`, 'fleet'].flatMap(
    (scope) => policies.data.find((p) => p.scope === scope)?.rules.signer || [],
  )
  const itself = families.data.find((f) => f.name === device.data.family)?.signs_itself
  return (
    <FormDialog
      title={`Replace ${slot.device}/${slot.name}`}
      wide
      schema={schema}
      start={{
        signer: itself ? 'device' : (named[0] ?? ''),
        key: '',
        names: '',
        when: '',
        at: '',
        stopAfter: '',
        also: [],
        unseen: false,
        oneWay: false,
      }}
      always
      submit="Start"
      said="The replacement has started"
      command={(t) =>
        command(
          'replace',
          [`${slot.device}/${slot.name}`, ...t.also].join(','),
          ...(itself ? [] : option('signer', t.signer)),
          ...option('key', t.key),
          ...t.names.split(/[\s,]+/).flatMap((n) => option('name', n)),
          ...(t.when === 'window' ? ['--at', 'next-window'] : []),
          ...(t.when === 'at' && t.at ? ['--at', new Date(t.at).toISOString()] : []),
          ...option('stop-after', t.stopAfter),
          t.unseen && '--unseen',
          t.oneWay && '--one-way',
          '--watch',
        )
      }
      of="replacements"
      send={async (t) => {
        try {
          return await take(api.POST('/api/v1/replacements', { body: orderOf(slot, t) }))
        } catch (e) {
          if (e instanceof ApiError && e.actions?.some((a) => a.do === 'one-way')) setOneWay(true)
          throw e
        }
      }}
      done={(r) => void navigate(`/replacements/${r.id}`)}
      close={close}
    >
      <Box sx={{ display: 'grid', gap: 2 }}>
        {itself ? (
          <Typography>
            The device, or its manager, makes and signs the certificate itself. No request is made, and key and names
            are not chosen here.
          </Typography>
        ) : (
          <>
            <FieldGrid>
              <Choice
                name="signer"
                label="Signer"
                options={[
                  { value: '', label: 'choose one' },
                  ...signers.data.map((s) => ({ value: s.name, label: s.about ? `${s.name}: ${s.about}` : s.name })),
                ]}
              />
              <Choice name="key" label="Key" options={[{ value: '', label: 'as the policy says' }, ...keyTypes]} />
            </FieldGrid>
            <Field name="names" label="Further names" help="Known names are included automatically." />
          </>
        )}
        <When />
        {others.length > 0 && <Also names={others.map((o) => o.name)} />}
        <Box>
          {slot.condition === 'unreachable' && (
            <Tick name="unseen" label="Start although the slot cannot be read: a revert can then not be proven" />
          )}
          <OneWay asked={oneWay} />
        </Box>
        <Preview slot={slot} seen={setOneWay} />
      </Box>
    </FormDialog>
  )
}

function OneWay({ asked }: { asked: boolean }) {
  return asked ? <Tick name="oneWay" label="Start although some steps cannot be undone" /> : null
}

/** When says when the device may be touched, and whether it waits for a person in between. */
function When() {
  const { when } = useTyped<Terms>()
  return (
    <FieldGrid columns={3}>
      <Choice
        name="when"
        label="When to change the device"
        options={[
          { value: '', label: 'as soon as the policy allows it' },
          { value: 'window', label: 'in the next window that opens' },
          { value: 'at', label: 'not before a time' },
        ]}
      />
      <Field name="at" label="Not before (local time)" type="datetime-local" disabled={when !== 'at'} />
      <Choice
        name="stopAfter"
        label="Wait for a go-ahead"
        options={[
          { value: '', label: 'not at all' },
          { value: 'sign', label: 'after sign' },
          { value: 'trial', label: 'after the trial' },
        ]}
      />
    </FieldGrid>
  )
}

/** Also chooses further slots that get the same certificate. */
function Also({ names }: { names: string[] }) {
  const { setValue } = useFormContext<Terms>()
  const { also } = useTyped<Terms>()
  return (
    <Box role="group" aria-label="Further slots">
      <Typography variant="body2">Give the same certificate to:</Typography>
      {names.map((name) => (
        <FormControlLabel
          key={name}
          label={name}
          control={
            <Checkbox
              size="small"
              checked={also.includes(name)}
              onChange={(e) =>
                setValue('also', e.target.checked ? [...also, name] : also.filter((a) => a !== name), {
                  shouldDirty: true,
                })
              }
            />
          }
        />
      ))}
    </Box>
  )
}

function Preview({ slot, seen }: { slot: Slot; seen: (oneWay: boolean) => void }) {
  const typed = useTyped<Terms>()
  const rehearse = useMutation({
    mutationFn: () => take(api.POST('/api/v1/rehearsals', { body: orderOf(slot, typed) })),
    onSuccess: (r) => r.steps.some((s) => s.undo?.startsWith('no way back')) && seen(true),
  })
  return (
    <Box sx={{ display: 'grid', gap: 1 }}>
      <Button
        variant="outlined"
        sx={{ justifySelf: 'start' }}
        disabled={rehearse.isPending}
        onClick={() => rehearse.mutate()}
      >
        Rehearse
      </Button>
      {rehearse.error && <Problem error={rehearse.error} />}
      {rehearse.data && <Rehearsal of={rehearse.data} />}
    </Box>
  )
}
