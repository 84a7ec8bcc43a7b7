import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { useMutation } from '@tanstack/react-query'
import { useId } from 'react'
import * as v from 'valibot'
import { api, take } from '../../api/client'
import { stale } from '../../api/queries'
import { mono } from '../../app/theme'
import { AsCommand } from '../../parts/AsCommand'
import { Field } from '../../parts/form/Field'
import { Form } from '../../parts/form/Form'
import { Copy } from '../../parts/Print'
import { Problem } from '../../parts/Problem'
import { command } from '../../parts/command'

/**
 * SetUp sets up an authenticator: its secret as a picture and as text, then its first code. Whoever shows it shows the
 * recovery codes that are made then, whatever else the session says by then.
 */
export function SetUp({ instead, made }: { instead?: boolean; made: (codes: string[]) => void }) {
  const id = useId()
  const begin = useMutation({ mutationFn: () => take(api.POST('/api/v1/factor')) })
  if (!begin.data)
    return (
      <Box sx={{ mt: 2 }}>
        <Button variant={instead ? 'outlined' : 'contained'} disabled={begin.isPending} onClick={() => begin.mutate()}>
          {instead ? 'Set up another authenticator' : 'Set up an authenticator'}
        </Button>
        <AsCommand command={command('factor', 'add')} what="Set up" />
        {begin.error && <Problem error={begin.error} />}
      </Box>
    )
  return (
    <Box sx={{ mt: 2, display: 'grid', gap: 2 }}>
      <Typography>Scan this with your authenticator, or type the secret:</Typography>
      <Box>
        <img
          src={begin.data.image}
          width={240}
          height={240}
          alt="QR code with the secret, which is written below"
          style={{ border: '8px solid white' }}
        />
      </Box>
      <Box sx={{ fontFamily: mono, overflowWrap: 'anywhere' }} data-secret={begin.data.secret}>
        {begin.data.secret.match(/.{1,4}/g)?.join(' ')} <Copy text={begin.data.secret} what="the secret" />
      </Box>
      <Form
        id={id}
        label="Put the authenticator into use"
        schema={v.object({ code: v.pipe(v.string(), v.trim(), v.nonEmpty('Code is needed.')) })}
        start={{ code: '' }}
        submit="Put it into use"
        said="The authenticator is in use. Your other sessions have ended."
        of="sessions"
        command={() => command('factor', 'code')}
        send={(x) => take(api.POST('/api/v1/factor/code', { body: x }))}
        done={(out) => made(out.codes)}
      >
        <Field name="code" label="Code that it shows now" complete="one-time-code" sx={{ maxWidth: 320 }} />
      </Form>
    </Box>
  )
}

/** Recovery shows recovery codes, once. */
export function Recovery({ codes, done }: { codes: string[]; done: () => void }) {
  return (
    <Alert severity="warning" variant="outlined" sx={{ mt: 2 }}>
      These recovery codes sign in where the authenticator is lost, each once. They are shown once; keep them apart from
      it.
      <Box component="pre" data-recovery sx={{ fontFamily: mono, my: 1 }}>
        {codes.join('\n')}
      </Box>
      <Copy text={codes.join('\n')} what="the recovery codes" />{' '}
      <Button
        size="small"
        onClick={() => {
          void stale('session').then(done)
        }}
      >
        I have kept them
      </Button>
    </Alert>
  )
}
