import * as v from 'valibot'
import { api, take, type Slot } from '../../api/client'
import { Field } from '../../parts/form/Field'
import { FormDialog } from '../../parts/form/FormDialog'
import { FieldGrid } from '../../parts/Panel'
import { command } from '../../parts/command'

/** Acknowledge says that somebody knows of a slot: until a day nobody is told of it, unless it gets worse. */
export function Acknowledge({ slot: s, close }: { slot: Slot; close: () => void }) {
  return (
    <FormDialog
      title={`Acknowledge ${s.device}/${s.name}: no notices until …`}
      schema={v.object({
        reason: v.pipe(v.string(), v.trim(), v.nonEmpty('A reason is needed.')),
        until: v.pipe(v.string(), v.nonEmpty('A last day is needed.')),
      })}
      start={{ reason: '', until: '' }}
      submit="Acknowledge"
      said="Acknowledged"
      of="notices"
      send={(x) =>
        take(
          api.PUT('/api/v1/slots/{device}/{slot}/acknowledgement', {
            params: { path: { device: s.device, slot: s.name } },
            body: x,
          }),
        )
      }
      command={(x) =>
        command(
          ...['notice', 'acknowledge', `${s.device}/${s.name}`, '--until', x.until || 'DAY'],
          ...['--reason', x.reason.trim() || 'REASON'],
        )
      }
      close={close}
    >
      <FieldGrid columns={1}>
        <Field name="reason" label="Reason" autoFocus help="why no notice is needed" />
        <Field name="until" label="Last day" type="date" help="no notices until then, unless it gets worse" />
      </FieldGrid>
    </FormDialog>
  )
}
