import Button from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import * as v from 'valibot'
import { api, take, type Schemas, type Slot } from '../../api/client'
import { pinsQuery, useChange } from '../../api/queries'
import { Confirm } from '../../parts/Confirm'
import { Choice, Field } from '../../parts/form/Field'
import { FormDialog } from '../../parts/form/FormDialog'
import { May } from '../../parts/May'
import { Panel, Quiet, Row } from '../../parts/Panel'
import { pinned } from '../../parts/pins'
import { command, option } from '../../parts/command'

type Pin = Schemas['Pin']

const schema = v.object({
  who: v.pipe(v.string(), v.trim(), v.nonEmpty('Who is needed.'), v.maxLength(200, 'Who has at most 200 characters.')),
  what: v.picklist(['sha256', 'sha1', 'key', 'certificate', 'root']),
  how: v.pipe(
    v.string(),
    v.trim(),
    v.nonEmpty('How they are told is needed.'),
    v.maxLength(2000, 'It has at most 2000 characters.'),
  ),
})

/**
 * Pins are the systems and people that recorded something of a slot's certificate: each needs the new value after a
 * change.
 */
export function Pins({ slot }: { slot: Slot }) {
  const pins = useQuery(pinsQuery(slot.device, slot.name))
  const [adding, setAdding] = useState(false)
  return (
    <Panel
      title="Pinned by"
      term="pinned by"
      action={
        <May role="operator">
          <Button size="small" onClick={() => setAdding(true)}>
            Add a pin
          </Button>
        </May>
      }
    >
      {pins.data?.length === 0 && <Quiet>No recorded pins.</Quiet>}
      {(pins.data ?? []).map((p) => (
        <PinRow key={p.id} pin={p} />
      ))}
      {adding && (
        <FormDialog
          title={`Who pinned ${slot.device}/${slot.name}?`}
          schema={schema}
          start={{ who: '', what: 'sha256' as const, how: '' }}
          submit="Add"
          said="The pin was recorded"
          of="pins"
          send={(x) => take(api.POST('/api/v1/pins', { body: { device: slot.device, slot: slot.name, ...x } }))}
          command={(x) =>
            command(
              ...['pin', 'add', `${slot.device}/${slot.name}`, '--who', x.who.trim() || 'WHO'],
              ...['--what', x.what, ...option('how', x.how)],
            )
          }
          close={() => setAdding(false)}
        >
          <Field name="who" label="Who" help="a system or a person" autoFocus />
          <Choice
            name="what"
            label="What they recorded"
            options={Object.entries(pinned).map(([value, label]) => ({ value, label }))}
          />
          <Field name="how" label="How they are told" help="whom to write to, or where to enter it" multiline />
        </FormDialog>
      )}
    </Panel>
  )
}

function PinRow({ pin }: { pin: Pin }) {
  const [sure, setSure] = useState(false)
  const remove = useChange({
    of: 'pins',
    do: () => take(api.DELETE('/api/v1/pins/{id}', { params: { path: { id: pin.id } } })),
    done: () => setSure(false),
  })
  return (
    <Row>
      <Typography component="span" sx={{ fontWeight: 600, overflowWrap: 'anywhere' }}>
        <bdi>{pin.who}</bdi>
      </Typography>
      <span>{pinned[pin.what]}</span>
      <Quiet grow>
        <bdi>{pin.how}</bdi>
      </Quiet>
      <May role="operator">
        <Button size="small" color="error" aria-label={`Remove the pin of ${pin.who}`} onClick={() => setSure(true)}>
          Remove
        </Button>
      </May>
      {sure && (
        <Confirm
          question={`Remove the pin of ${pin.who}?`}
          yes="Remove"
          pending={remove.isPending}
          error={remove.error}
          act={() => remove.mutate()}
          close={() => setSure(false)}
          command={command('pin', 'remove', pin.id)}
        >
          <Typography>
            They are not listed after the next replacement any more. Pending updates of earlier replacements stay
            listed.
          </Typography>
        </Confirm>
      )}
    </Row>
  )
}
