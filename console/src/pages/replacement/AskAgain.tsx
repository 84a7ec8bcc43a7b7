import Box from '@mui/material/Box'
import Typography from '@mui/material/Typography'
import * as v from 'valibot'
import { api, take, type Replacement } from '../../api/client'
import { Field } from '../../parts/form/Field'
import { FormDialog } from '../../parts/form/FormDialog'
import { words } from '../../parts/words'
import { command, option, options } from '../../parts/command'

/** canAskAgain says that no answer was taken yet, so that another request can be signed instead. */
export function canAskAgain(r: Replacement) {
  return (
    (r.state === 'waiting' && r.stage === 'sign') ||
    (r.state === 'held' && (r.stage === 'request' || r.stage === 'sign'))
  )
}

const schema = v.object({
  reason: v.pipe(v.string(), v.trim(), v.nonEmpty('Reason is needed.')),
  more: v.string(),
  less: v.string(),
})

/** AskAgain has another request made and signed in place of the one that is out. */
export function AskAgain({ r, close }: { r: Replacement; close: () => void }) {
  return (
    <FormDialog
      title={`Ask again for ${r.id}`}
      schema={schema}
      start={{ reason: '', more: '', less: '' }}
      submit="Make another request"
      said="Another request is made"
      of="replacements"
      send={(x) =>
        take(
          api.POST('/api/v1/replacements/{id}/requests', {
            params: { path: { id: r.id } },
            body: { reason: x.reason, names: words(x.more), without: words(x.less) },
          }),
        )
      }
      command={(x) =>
        command(
          ...['replacement', 'ask-again', r.id, ...option('reason', x.reason.trim() || 'REASON')],
          ...[...options('name', words(x.more)), ...options('without', words(x.less))],
        )
      }
      close={close}
    >
      <Box sx={{ display: 'grid', gap: 2 }}>
        <Typography>
          The device makes another request with a new key. The one that is out becomes obsolete: if it is still signed,
          that is told when it comes, and never installed.
        </Typography>
        <Field name="reason" label="Reason" autoFocus />
        <Field name="more" label="Names to add" help={`It has ${r.plan.names.join(', ')}`} />
        <Field name="less" label="Names to remove" />
      </Box>
    </FormDialog>
  )
}
