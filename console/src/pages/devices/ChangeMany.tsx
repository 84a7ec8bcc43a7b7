import { useQuery } from '@tanstack/react-query'
import * as v from 'valibot'
import { api, take, type Schemas } from '../../api/client'
import { credentialsQuery, familiesQuery, sitesQuery } from '../../api/queries'
import { Choice, Field } from '../../parts/form/Field'
import { FormDialog } from '../../parts/form/FormDialog'
import { FieldGrid } from '../../parts/Panel'
import type { Filter } from '../../api/lists'
import { some, words } from '../../parts/words'
import { command, option } from '../../parts/command'

const asItIs = { value: '', label: 'as it is' }
const schema = v.object({
  owner: v.string(),
  site: v.string(),
  family: v.string(),
  credential: v.string(),
  addTags: v.string(),
  removeTags: v.string(),
})

// Tags are added and removed here only: a command sets all of them.
function commandOf(devices: string[], x: v.InferOutput<typeof schema>) {
  const said = (['owner', 'site', 'family', 'credential'] as const).flatMap((name) => option(name, x[name]))
  if (said.length === 0 || x.addTags || x.removeTags) return ''
  return devices.map((name) => command('device', 'edit', name, ...said)).join(' && ')
}

/** ChangeMany changes what many devices have in common. */
export function ChangeMany({
  n,
  which,
  done,
  close,
}: {
  n: number
  which: { filter?: Filter; devices?: string[] }
  done: (o: Schemas['Changed']) => void
  close: () => void
}) {
  const sites = useQuery(sitesQuery).data ?? []
  const families = useQuery(familiesQuery).data ?? []
  const credentials = useQuery(credentialsQuery).data ?? []
  return (
    <FormDialog
      title={`Change ${some(n, 'device')}`}
      schema={schema}
      start={{ owner: '', site: '', family: '', credential: '', addTags: '', removeTags: '' }}
      submit={`Change ${some(n, 'device')}`}
      said="Changed"
      of="devices"
      send={(x) =>
        take(
          api.POST('/api/v1/changes', {
            body: {
              ...which,
              change: {
                ...(x.owner && { owner: x.owner }),
                ...(x.site && { site: x.site }),
                ...(x.family && { family: x.family }),
                ...(x.credential && { credential: x.credential }),
                ...(x.addTags && { add_tags: words(x.addTags) }),
                ...(x.removeTags && { remove_tags: words(x.removeTags) }),
              },
            },
          }),
        )
      }
      command={(x) => commandOf(which.devices ?? [], x)}
      done={done}
      close={close}
    >
      <FieldGrid>
        <Field name="owner" label="Owner" help="empty: as it is" />
        <Choice name="site" label="Site" options={[asItIs, ...sites.map((s) => ({ value: s.name, label: s.name }))]} />
        <Choice
          name="family"
          label="Family"
          options={[
            asItIs,
            ...families
              .filter((f) => !f.links.includes('service'))
              .map((f) => ({ value: f.name, label: f.title || f.name })),
          ]}
        />
        <Choice
          name="credential"
          label="Credential"
          options={[asItIs, ...credentials.map((c) => ({ value: c.name, label: `${c.name} (${c.user})` }))]}
        />
        <Field name="addTags" label="Tags to add" />
        <Field name="removeTags" label="Tags to remove" />
      </FieldGrid>
    </FormDialog>
  )
}
