import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import { useQuery } from '@tanstack/react-query'
import { useEffect, useRef, useState } from 'react'
import { useFormContext } from 'react-hook-form'
import { Link as RouterLink } from 'react-router'
import * as v from 'valibot'
import { api, revision, take } from '../../api/client'
import { anchorsQuery } from '../../api/queries'
import { Field } from '../../parts/form/Field'
import { FormDialog } from '../../parts/form/FormDialog'
import { useTyped } from '../../parts/form/Form'
import { Foreign } from '../../parts/Foreign'
import { Loaded } from '../../parts/Loaded'
import { May } from '../../parts/May'
import { Panel, Quiet, Row } from '../../parts/Panel'
import { Print } from '../../parts/Print'
import { day } from '../../parts/words'

/** Anchors are the roots that the fleet trusts. */
export function Anchors() {
  const all = useQuery(anchorsQuery)
  const [adding, setAdding] = useState(false)
  return (
    <Panel
      title="Roots that the fleet trusts"
      term="anchor"
      action={
        <May role="admin">
          <Button variant="outlined" onClick={() => setAdding(true)}>
            Add a root
          </Button>
        </May>
      }
    >
      <Loaded query={all}>
        {(anchors) => (
          <>
            {anchors.length === 0 && <Quiet>None yet.</Quiet>}
            {anchors.map((a) => (
              <Row key={a.sha256}>
                <Foreign strong>{a.subject}</Foreign>
                <Quiet grow>until {day(a.not_after)}</Quiet>
                <Link component={RouterLink} to={`/slots?serves=${a.sha256}`}>
                  slots that use it
                </Link>
                <div style={{ width: '100%' }}>
                  <Print text={a.sha256} what={`the SHA-256 of ${a.subject}`} />
                </div>
              </Row>
            ))}
          </>
        )}
      </Loaded>
      {adding && <AddRoot close={() => setAdding(false)} />}
    </Panel>
  )
}

const mostAtOnce = 16

const schema = v.object({
  pem: v.pipe(
    v.string(),
    v.check((text) => blocksOf(text).length > 0, 'A certificate in PEM form is needed.'),
    v.check((text) => blocksOf(text).length <= mostAtOnce, `Add at most ${mostAtOnce} certificates at once.`),
    v.check((text) => blocksOf(text).every((b) => derOf(b)), 'A certificate in it is damaged.'),
  ),
})
type Values = v.InferOutput<typeof schema>

/** AddRoot trusts roots, after their fingerprints were shown to be compared. */
function AddRoot({ close }: { close: () => void }) {
  return (
    <FormDialog
      title="Add a root that the fleet trusts"
      schema={schema}
      start={{ pem: '' }}
      submit="I compared it: trust it"
      said="The fleet trusts it now"
      of="anchors"
      command={() => 'freshseal trust-group add fleet root.pem'}
      send={async ({ pem }) => {
        const fleet = (await take(api.GET('/api/v1/trust-groups'))).items.find((g) => g.name === 'fleet')
        return take(
          api.POST('/api/v1/trust-groups/{name}/anchors', {
            params: { path: { name: 'fleet' }, header: revision(fleet) },
            body: { pem: blocksOf(pem).join('\n') }, // what was shown to be compared, and nothing else of the file
          }),
        )
      }}
      close={close}
    >
      <Root />
    </FormDialog>
  )
}

function Root() {
  const { pem } = useTyped<Values>()
  const { setValue } = useFormContext<Values>()
  const file = useRef<HTMLInputElement>(null)
  const [prints, setPrints] = useState<string[]>([])
  useEffect(() => {
    let current = true
    void fingerprints(pem).then((found) => current && setPrints(found))
    return () => {
      current = false
    }
  }, [pem])
  return (
    <Box sx={{ display: 'grid', gap: 1.5 }}>
      <Field name="pem" label="Certificate (PEM)" multiline minRows={6} maxRows={6} autoFocus />
      <Button variant="outlined" sx={{ justifySelf: 'start' }} onClick={() => file.current?.click()}>
        Choose a file
      </Button>
      <input
        id="root-file"
        type="file"
        aria-label="Certificate file"
        hidden
        ref={file}
        onChange={(e) => {
          const chosen = e.target.files?.[0]
          e.target.value = ''
          void chosen?.text().then((text) => setValue('pem', text, { shouldDirty: true, shouldValidate: true }))
        }}
      />
      {prints.length > 0 && <Quiet>Compare the SHA-256 with what the authority publishes:</Quiet>}
      {prints.map((p) => (
        <Print key={p} text={p} what="the SHA-256 of the root" />
      ))}
    </Box>
  )
}

/** blocksOf returns the certificates in a text, as PEM blocks. */
const blocksOf = (text: string) =>
  text.match(/-----BEGIN CERTIFICATE-----[A-Za-z0-9+/=\s]+-----END CERTIFICATE-----/g) ?? []

/** derOf returns the bytes of a PEM block, undefined if they are no base64. */
function derOf(block: string) {
  try {
    return Uint8Array.from(atob(block.replace(/-----[A-Z ]+-----|\s/g, '')), (c) => c.charCodeAt(0))
  } catch {
    return undefined
  }
}

/** fingerprints returns the SHA-256 of the certificates in a text. */
async function fingerprints(text: string) {
  const all = blocksOf(text)
    .slice(0, mostAtOnce)
    .map(async (block) => {
      const der = derOf(block)
      if (!der) return ''
      const digest = new Uint8Array(await crypto.subtle.digest('SHA-256', der))
      return [...digest].map((b) => b.toString(16).padStart(2, '0')).join('')
    })
  return (await Promise.all(all)).filter(Boolean)
}
