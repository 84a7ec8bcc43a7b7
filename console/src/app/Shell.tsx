import AppBar from '@mui/material/AppBar'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Toolbar from '@mui/material/Toolbar'
import Typography from '@mui/material/Typography'
import { useColorScheme } from '@mui/material/styles'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useEffect } from 'react'
import { NavLink, Outlet, useLocation, useNavigate } from 'react-router'
import { ApiError, api, take } from '../api/client'
import { queryClient, sessionQuery } from '../api/queries'
import { Problem } from '../parts/Problem'
import { Seal } from '../parts/Seal'

/** Shell is the frame around every page; who is not signed in is sent to sign in first. */
export function Shell() {
  const session = useQuery(sessionQuery)
  const navigate = useNavigate()
  const location = useLocation()
  const out = session.error instanceof ApiError && session.error.status === 401
  useEffect(() => {
    if (out) void navigate('/sign-in', { replace: true, state: { from: location.pathname } })
  }, [out, navigate, location.pathname])
  if (session.error && !out) return <Problem error={session.error} />
  if (!session.data) return null
  return (
    <Box sx={{ minHeight: '100vh', display: 'flex', flexDirection: 'column' }}>
      <Link href="#content" sx={{ position: 'absolute', left: -9999, '&:focus': { left: 8, top: 8, zIndex: 2000 } }}>
        Skip to the content
      </Link>
      <AppBar position="sticky" color="inherit" variant="elevation" elevation={0} sx={{ borderBottom: 1, borderColor: 'divider', bgcolor: 'background.paper' }}>
        <Toolbar variant="dense" sx={{ gap: { xs: 1, sm: 2 }, flexWrap: 'wrap' }}>
          <Box sx={{ display: 'flex', alignItems: 'center', gap: 1 }}>
            <Seal size={26} />
            <Typography component="span" sx={{ fontWeight: 700, letterSpacing: '-0.01em', display: { xs: 'none', sm: 'inline' } }}>
              Fresh Seal
            </Typography>
          </Box>
          <Box component="nav" aria-label="Pages" sx={{ display: 'flex', gap: { xs: 1.5, sm: 2 }, flexGrow: 1, flexWrap: 'wrap', order: { xs: 3, md: 0 } }}>
            <Page to="/">Overview</Page>
            <Page to="/devices">Devices</Page>
            <Page to="/slots">Slots</Page>
            <Page to="/replacements">Replacements</Page>
            <Page to="/desk">Desk</Page>
            <Page to="/families">Families</Page>
            {session.data.role === 'admin' && <Page to="/people">People</Page>}
            <Page to="/ledger">Ledger</Page>
            <Page to="/settings">Settings</Page>
          </Box>
          <Scheme />
          <SignOut user={session.data.user} />
        </Toolbar>
      </AppBar>
      <Box component="main" id="content" sx={{ p: { xs: 1.5, sm: 3 }, width: '100%', maxWidth: 1360, mx: 'auto', flexGrow: 1 }}>
        <Outlet />
      </Box>
    </Box>
  )
}

function Page({ to, children }: { to: string; children: string }) {
  return (
    <Link
      component={NavLink}
      to={to}
      end={to === '/'}
      sx={{ py: 1.5, color: 'text.secondary', fontWeight: 600, borderBottom: '2px solid transparent', '&.active': { color: 'text.primary', borderColor: 'seal' } }}
    >
      {children}
    </Link>
  )
}

function Scheme() {
  const { mode, systemMode, setMode } = useColorScheme()
  const dark = (mode === 'system' ? systemMode : mode) === 'dark'
  return (
    <Button size="small" color="inherit" onClick={() => setMode(dark ? 'light' : 'dark')}>
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
      void navigate('/sign-in')
    },
  })
  return (
    <Button size="small" color="inherit" onClick={() => out.mutate()} disabled={out.isPending}>
      Sign out {user}
    </Button>
  )
}
