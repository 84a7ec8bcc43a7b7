import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import FormHelperText from '@mui/material/FormHelperText'
import { useMutation } from '@tanstack/react-query'
import { useFormContext } from 'react-hook-form'
import { api, take } from '../api/client'
import { mono } from '../app/theme'
import { Foreign } from './Foreign'
import { Problem } from './Problem'

/** Pinned are the fields of a form that hold a host key, and at which place it was shown. */
export type Pinned = { pin: string; pinnedAt: string }

export type Place = { site: string; address: string; port: string }

/** placeOf tells one place from another: a host key belongs to the one that showed it. */
export const placeOf = (p: Place) => [p.site, p.address.trim(), p.port].join(' ')

export const unpinned = 'The host key belongs to another address: ask for it again and compare it.'

/** HostKey asks a server for its host key and has a person compare it. Another address, port or site asks again. */
export function HostKey({ at, what }: { at: Place; what: string }) {
  const { watch, setValue, formState, clearErrors } = useFormContext<Pinned>()
  const { pin, pinnedAt } = watch()
  const place = placeOf(at)
  const ask = useMutation({
    mutationFn: () => take(api.POST('/api/v1/host-keys', { body: { site: at.site, address: at.address.trim(), port: Number(at.port) } })),
  })
  const shown = ask.data && ask.variables === undefined ? ask.data.host_key : undefined
  const holds = pin !== '' && pinnedAt === place
  const error = formState.errors.pin?.message
  return (
    <Box role="group" aria-label="Host key" sx={{ display: 'grid', gap: 1, gridColumn: '1 / -1' }}>
      {holds ? (
        <Alert severity="success" variant="outlined" icon={false}>
          Host key of {what}: <Key text={pin} />
          <Button size="small" color="inherit" onClick={() => ask.mutate()} disabled={ask.isPending}>
            Ask again
          </Button>
        </Alert>
      ) : (
        <Alert
          severity="warning"
          variant="outlined"
          action={
            <Button color="inherit" disabled={!at.address || ask.isPending} onClick={() => ask.mutate()}>
              {ask.isPending ? 'Asking…' : 'Ask for its host key'}
            </Button>
          }
        >
          {pin ? `The host key was shown at another place. Ask ${what} for it again.` : `${what} has to show its host key before a password is sent to it.`}
        </Alert>
      )}
      {shown && (shown !== pin || !holds) && (
        <Alert severity="warning" variant="outlined">
          {what} shows this host key. Compare it with its own console:
          <Key text={shown} />
          <Button
            variant="outlined"
            size="small"
            color="inherit"
            sx={{ mt: 1 }}
            onClick={() => {
              setValue('pin', shown, { shouldDirty: true })
              setValue('pinnedAt', place)
              clearErrors('pin')
              ask.reset()
            }}
          >
            The key is correct
          </Button>
        </Alert>
      )}
      {error && <FormHelperText error>{error}</FormHelperText>}
      {ask.error && <Problem error={ask.error} />}
    </Box>
  )
}

function Key({ text }: { text: string }) {
  return (
    <Box sx={{ fontFamily: mono, fontSize: 12.5, overflowWrap: 'anywhere' }}>
      <Foreign>{text}</Foreign>
    </Box>
  )
}
