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

/** SignIn is a link over which somebody signs in. */
export type SignIn = 'ssh' | 'https' | 'netconf'

/** linksOf are the links over which somebody signs in to a family's devices, in the family's order. */
export const linksOf = (links: string[] | undefined) =>
  (links ?? []).filter((l): l is SignIn => l === 'ssh' || l === 'https' || l === 'netconf')

export const usualPort = { ssh: '22', https: '443', netconf: '830' }
export const linkNames = { ssh: 'SSH', https: 'Web', netconf: 'NETCONF' }

/** What is pinned over a link. */
const pinNames = { ssh: 'host key', https: 'certificate', netconf: 'host key' }

export type Place = { site: string; address: string; port: string }

/** placeOf tells one place from another: a host key belongs to the one that showed it. */
export const placeOf = (p: Place) => [p.site, p.address.trim(), p.port].join(' ')

export const unpinned = 'The host key or certificate belongs to another address: ask for it again and compare it.'

/**
 * HostKey asks a server for its host key, or over https for the fingerprint of its certificate, and has a person
 * compare it. Another address, port or site asks again. The fields of the form that hold it are called pin and
 * pinnedAt, with a prefix where there are several.
 */
export function HostKey({
  at,
  what,
  link = 'ssh',
  prefix = '',
}: {
  at: Place
  what: string
  link?: SignIn
  prefix?: string
}) {
  const { watch, setValue, formState, clearErrors } = useFormContext<Record<string, string>>()
  const field = prefix ? `${prefix}Pin` : 'pin'
  const pin = watch(field)
  const pinnedAt = watch(`${field}nedAt`)
  const place = placeOf(at)
  const name = pinNames[link]
  const ask = useMutation({
    mutationFn: () =>
      take(
        api.POST('/api/v1/host-keys', {
          body: { link, site: at.site, address: at.address.trim(), port: Number(at.port) },
        }),
      ),
  })
  const shown = ask.data && ask.variables === undefined ? ask.data.host_key : undefined
  const holds = pin !== '' && pinnedAt === place
  const error = formState.errors[field]?.message
  return (
    <Box
      role="group"
      aria-label={link !== 'https' ? 'Host key' : 'Certificate'}
      sx={{ display: 'grid', gap: 1, gridColumn: '1 / -1' }}
    >
      {holds ? (
        <Alert severity="success" variant="outlined" icon={false}>
          {link !== 'https' ? 'Host key' : 'Certificate'} of {what}: <Key text={pin} />
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
              {ask.isPending ? 'Asking…' : `Ask for its ${name}`}
            </Button>
          }
        >
          {pin
            ? `The ${name} was shown at another place. Ask ${what} for it again.`
            : `${what} has to show its ${name} before a password is sent to it.`}
        </Alert>
      )}
      {shown && (shown !== pin || !holds) && (
        <Alert severity="warning" variant="outlined">
          {what} shows {link !== 'https' ? 'this host key' : 'a certificate with this SHA-256'}. Compare it with its own
          console:
          <Key text={shown} />
          <Button
            variant="outlined"
            size="small"
            color="inherit"
            sx={{ mt: 1 }}
            onClick={() => {
              setValue(field, shown, { shouldDirty: true })
              setValue(`${field}nedAt`, place)
              clearErrors(field)
              ask.reset()
            }}
          >
            {link !== 'https' ? 'The key is correct' : 'The certificate is correct'}
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
