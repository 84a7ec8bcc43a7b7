import Alert from '@mui/material/Alert'
import AppBar from '@mui/material/AppBar'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Toolbar from '@mui/material/Toolbar'
import Typography from '@mui/material/Typography'
import { useColorScheme } from '@mui/material/styles'
import { useMutation, useQuery } from '@tanstack/react-query'
import { Suspense, lazy, useEffect, useState } from 'react'
import { Outlet, useLocation, useNavigate } from 'react-router'
import { chunk, spare } from '../api/chunk'
import { ApiError, api, take } from '../api/client'
import { connection, useConnection } from '../api/connection'
import { queryClient, sessionQuery } from '../api/queries'
import { useNotice } from '../parts/notice'
import { Problem } from '../parts/Problem'
import { Seal } from '../parts/Seal'
import { Navigation } from './Navigation'

const Palette = lazy(async () => ({ default: (await chunk(import('./Palette'))).Palette }))
const Said = lazy(async () => ({ default: await spare(async () => (await import('../parts/Said')).Said) }))
const SignInAgain = lazy(async () => ({ default: (await chunk(import('../pages/signin/SignInAgain'))).SignInAgain }))

const ConfirmIdentity = lazy(async () => ({
  default: (await chunk(import('../pages/signin/ConfirmIdentity'))).ConfirmIdentity,
}))
const MustSetUp = lazy(async () => ({ default: (await chunk(import('../pages/account/MustSetUp'))).MustSetUp }))

/** Shell is the frame around every page; who is not signed in is sent to sign in first. */
export function Shell() {
  const session = useQuery(sessionQuery)
  const { out, unsure } = useConnection()
  const [setsUp, setSetsUp] = useState(false) // goes on until the recovery codes are kept, whatever is read meanwhile
  if (session.data?.must_set_up && !setsUp) setSetsUp(true)
  const navigate = useNavigate()
  const location = useLocation()
  const stranger = session.error instanceof ApiError && session.error.status === 401 && !session.data
  useEffect(() => {
    if (stranger) void navigate('/sign-in', { replace: true, state: { from: location.pathname + location.search } })
  }, [stranger, navigate, location.pathname, location.search])
  if (session.error && !session.data && !stranger)
    return <Problem error={session.error} again={() => void session.refetch()} />
  if (!session.data) return null
  return (
    <Box sx={{ minHeight: '100vh', display: 'flex', flexDirection: 'column' }}>
      <Link
        href="#content"
        sx={{
          position: 'absolute',
          left: -9999,
          '&:focus': { left: 8, top: 8, zIndex: 2000, bgcolor: 'background.paper', p: 1 },
        }}
      >
        Skip to the content
      </Link>
      <AppBar
        // on a narrow screen it would cover too much of what has the focus
        position="static"
        color="inherit"
        elevation={0}
        sx={{ position: { lg: 'sticky' }, borderBottom: 1, borderColor: 'divider', bgcolor: 'background.paper' }}
      >
        <Toolbar variant="dense" sx={{ gap: { xs: 1, sm: 2 }, flexWrap: 'wrap' }}>
          <Box sx={{ display: 'flex', alignItems: 'center', gap: 1 }}>
            <Seal size={26} />
            <Typography
              component="span"
              sx={{ fontWeight: 700, letterSpacing: '-0.01em', display: { xs: 'none', lg: 'inline' } }}
            >
              Fresh Seal
            </Typography>
          </Box>
          <Navigation role={session.data.role} />
          <Search />
          <Scheme />
          <SignOut user={session.data.user} />
        </Toolbar>
      </AppBar>
      <Away />
      <Box
        component="main"
        id="content"
        tabIndex={-1}
        sx={{ p: { xs: 1.5, sm: 3 }, width: '100%', maxWidth: 1360, mx: 'auto', flexGrow: 1, outline: 'none' }}
      >
        {setsUp ? (
          <Suspense>
            <MustSetUp done={() => setSetsUp(false)} />
          </Suspense>
        ) : (
          <Outlet />
        )}
      </Box>
      <Told />
      {out && (
        <Suspense>
          <SignInAgain user={session.data.user} />
        </Suspense>
      )}
      {unsure && !out && (
        <Suspense>
          <ConfirmIdentity user={session.data.user} factor={session.data.factor} />
        </Suspense>
      )}
    </Box>
  )
}

/** Search opens the palette, by its button, Ctrl-K or a slash. */
function Search() {
  const [open, setOpen] = useState(false)
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      const typing =
        e.target instanceof HTMLElement &&
        (e.target.isContentEditable || /^(input|textarea|select)$/i.test(e.target.tagName))
      if ((e.key === 'k' && (e.ctrlKey || e.metaKey)) || (e.key === '/' && !typing)) {
        e.preventDefault()
        setOpen(true)
      }
    }
    window.addEventListener('keydown', key)
    return () => window.removeEventListener('keydown', key)
  }, [])
  return (
    <>
      <Button
        size="small"
        color="inherit"
        variant="outlined"
        aria-keyshortcuts="Control+K /"
        onClick={() => setOpen(true)}
      >
        Search
      </Button>
      {open && (
        <Suspense>
          <Palette close={() => setOpen(false)} />
        </Suspense>
      )}
    </>
  )
}

function Scheme() {
  const { mode, systemMode, setMode } = useColorScheme()
  const dark = (mode === 'system' ? systemMode : mode) === 'dark'
  return (
    <Button
      size="small"
      color="inherit"
      onClick={() => setMode(dark ? 'light' : 'dark')}
      aria-label={dark ? 'Light colours' : 'Dark colours'}
    >
      {dark ? 'Light' : 'Dark'}
    </Button>
  )
}

function SignOut({ user }: { user: string }) {
  const navigate = useNavigate()
  const out = useMutation({
    mutationFn: () => take(api.DELETE('/api/v1/session')),
    onSuccess: () => {
      queryClient.clear()
      connection.signedIn()
      void navigate('/sign-in')
    },
  })
  return (
    <Button size="small" color="inherit" onClick={() => out.mutate()} disabled={out.isPending}>
      Sign out <bdi style={{ marginLeft: 4 }}>{user}</bdi>
    </Button>
  )
}

/** Away says that the service does not answer, and sees when it is back. */
function Away() {
  const { away } = useConnection()
  useEffect(() => {
    if (!away) return
    const look = window.setInterval(() => {
      fetch('/healthz').then(
        (answer) => {
          if (!answer.ok) return
          connection.answered(true)
          void queryClient.invalidateQueries()
        },
        () => undefined,
      )
    }, 2_000)
    return () => window.clearInterval(look)
  }, [away])
  if (!away) return null
  return (
    <Alert severity="warning" role="status" square sx={{ position: 'sticky', top: 48, zIndex: 1400 }}>
      The service does not answer. What you see may be old; what you typed stays here. It goes on by itself when the
      service is back.
    </Alert>
  )
}

// Told shows notices. Their code, and that of explanations, is loaded a moment after the page.
function Told() {
  const { n } = useNotice()
  useEffect(() => {
    const later = window.setTimeout(() => {
      void spare(async () => (await import('../parts/Said')).Said)
      void spare(async () => (await import('../parts/Explanation')).Explanation)
    }, 2_000)
    return () => window.clearTimeout(later)
  }, [])
  if (n === 0) return null
  return (
    <Suspense>
      <Said />
    </Suspense>
  )
}
