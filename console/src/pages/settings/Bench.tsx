import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import * as v from 'valibot'
import { api, take, type Schemas } from '../../api/client'
import { benchQuery } from '../../api/queries'
import { Field, Tick } from '../../parts/form/Field'
import { FormDialog } from '../../parts/form/FormDialog'
import { Foreign } from '../../parts/Foreign'
import { Loaded } from '../../parts/Loaded'
import { May } from '../../parts/May'
import { FieldGrid } from '../../parts/Panel'
import { command, flags, option, options } from '../../parts/command'

type Bench = Schemas['Bench']

const days = (what: string) => v.pipe(v.string(), v.regex(/^[1-9]\d{0,4}$/, `${what} is a number of days.`))
const fields = v.object({
  root: v.string(),
  middle: v.string(),
  issuing: v.pipe(v.string(), v.trim(), v.nonEmpty('The issuing level needs a name.')),
  organization: v.string(),
  country: v.string(),
  rootDays: days('Lifetime of the root'),
  belowDays: days('Lifetime of the levels below'),
  leafDays: days('Longest certificate'),
  keep: v.boolean(),
})
const schema = v.pipe(
  fields,
  v.forward(
    v.partialCheck([['root'], ['keep']], (x) => x.keep || x.root.trim() !== '', 'The root needs a name.'),
    ['root'],
  ),
)

/** BenchLevels are the certificates of the authority of one's own, which can be set up with names and lifetimes. */
export function BenchLevels() {
  const [open, setOpen] = useState(false)
  return (
    <Loaded query={useQuery(benchQuery)}>
      {(b) => (
        <Box>
          {b.levels.map((level) => (
            <Typography key={level.sha256} variant="body2">
              <Foreign>{level.subject}</Foreign>, until {level.not_after.slice(0, 10)}
            </Typography>
          ))}
          <Button
            size="small"
            href={`data:application/x-pem-file,${encodeURIComponent(b.root)}`}
            download="bench-root.pem"
          >
            Download its root
          </Button>
          <May role="admin">
            <Button size="small" onClick={() => setOpen(true)}>
              Set up anew
            </Button>
          </May>
          {open && <SetUp b={b} close={() => setOpen(false)} />}
        </Box>
      )}
    </Loaded>
  )
}

function SetUp({ b, close }: { b: Bench; close: () => void }) {
  return (
    <FormDialog
      title="Set up bench"
      wide
      schema={schema}
      start={{
        root: '',
        middle: '',
        issuing: '',
        organization: '',
        country: '',
        rootDays: '7300',
        belowDays: '1825',
        leafDays: String(b.leaf_days),
        keep: false,
      }}
      submit="Set up"
      of="signers"
      send={(x) =>
        take(
          api.PUT('/api/v1/bench', {
            body: {
              names: [x.keep ? 'the root that there is' : x.root, x.middle, x.issuing]
                .map((name) => name.trim())
                .filter(Boolean),
              organization: x.organization,
              country: x.country.toUpperCase(),
              root_days: Number(x.rootDays),
              below_days: Number(x.belowDays),
              leaf_days: Number(x.leafDays),
              keep_root: x.keep,
              replaces: b.levels.at(-1)?.sha256 ?? '',
            },
          }),
        )
      }
      command={(x) =>
        command(
          ...['bench', 'setup', ...flags({ 'keep-root': x.keep }), '--level', x.keep ? '-' : x.root.trim() || 'ROOT'],
          ...options('level', [x.middle.trim(), x.issuing.trim() || 'ISSUING'].filter(Boolean)),
          ...[...option('organization', x.organization), ...option('country', x.country.toUpperCase())],
          ...[...option('root-days', x.rootDays), ...option('below-days', x.belowDays)],
          ...option('leaf-days', x.leafDays),
        )
      }
      close={close}
    >
      <Alert severity="info" variant="outlined" sx={{ mb: 2 }}>
        The keys of the authority that there is are deleted. Certificates that it signed stay as they are, and its root
        stays trusted until you remove it. The new root has to be given to all clients.
      </Alert>
      <FieldGrid>
        <Field name="root" label="Name of the root" autoFocus />
        <Field name="middle" label="Name of an intermediate level" help="empty: the root signs the issuing level" />
        <Field name="issuing" label="Name of the issuing level" />
        <Field name="organization" label="Organization" />
        <Field name="country" label="Country" help="two letters" />
        <Field name="rootDays" label="Lifetime of the root (days)" type="number" />
        <Field name="belowDays" label="Lifetime of the levels below (days)" type="number" />
        <Field name="leafDays" label="Longest certificate (days)" type="number" />
      </FieldGrid>
      <Tick name="keep" label="Keep the root, create the levels below again" />
    </FormDialog>
  )
}
