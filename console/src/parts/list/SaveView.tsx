import * as v from 'valibot'
import { api, take } from '../../api/client'
import { Field } from '../form/Field'
import { FormDialog } from '../form/FormDialog'

const schema = v.object({
  name: v.pipe(v.string(), v.trim(), v.nonEmpty('Name is needed.'), v.maxLength(60, 'Name has at most 60 characters.')),
})

/** SaveView asks for the name of a view. */
export function SaveView({ page, query, close }: { page: string; query: string; close: () => void }) {
  return (
    <FormDialog
      title="Save this view"
      schema={schema}
      start={{ name: '' }}
      submit="Save"
      send={(x) => take(api.PUT('/api/v1/views', { body: { page, name: x.name, query } }))}
      of="views"
      close={close}
    >
      <Field name="name" label="Name" autoFocus />
    </FormDialog>
  )
}
