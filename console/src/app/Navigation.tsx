import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import { useEffect, useRef, useState, type ReactNode } from 'react'
import { NavLink, useLocation } from 'react-router'
import type { Schemas } from '../api/client'
import { reaches } from '../parts/May'

type Role = Schemas['Session']['role']
type PageLink = { to: string; title: string; role?: Role }

/** groups are the pages, as they belong together. The first two are always in sight on a wide screen. */
const groups: { title: string; open?: boolean; pages: PageLink[] }[] = [
  {
    title: 'Fleet',
    open: true,
    pages: [
      { to: '/', title: 'Overview' },
      { to: '/slots', title: 'Slots' },
      { to: '/devices', title: 'Devices' },
      { to: '/discovery', title: 'Discovery' },
    ],
  },
  {
    title: 'Work',
    open: true,
    pages: [
      { to: '/replacements', title: 'Replacements' },
      { to: '/tasks', title: 'Tasks' },
      { to: '/desk', title: 'Desk' },
    ],
  },
  {
    title: 'Plan',
    pages: [
      { to: '/ahead', title: 'Forecast' },
      { to: '/calendar', title: 'Calendar' },
    ],
  },
  {
    title: 'Set-up',
    pages: [
      { to: '/notices', title: 'Notices' },
      { to: '/families', title: 'Families' },
      { to: '/settings', title: 'Settings' },
      { to: '/people', title: 'People', role: 'admin' },
      { to: '/audit', title: 'Audit log' },
    ],
  },
]

/** within says whether an address is that of a page, or of one below it. */
const within = (to: string, path: string) => (to === '/' ? path === '/' : path === to || path.startsWith(`${to}/`))

/** Navigation leads to the pages: in groups on a wide screen, behind one button on a narrow one. */
export function Navigation({ role }: { role: Role }) {
  const shown = groups.map((g) => ({ ...g, pages: g.pages.filter((p) => !p.role || reaches(role, p.role)) }))
  return (
    <Box component="nav" aria-label="Pages" sx={{ flexGrow: 1, minWidth: 0 }}>
      <Box sx={{ display: { xs: 'none', lg: 'flex' }, columnGap: 2, alignItems: 'center' }}>
        {shown.map((g) =>
          g.open ? (
            g.pages.map((p) => <Page key={p.to} {...p} />)
          ) : (
            <Opens key={g.title} title={g.title} pages={g.pages}>
              <Pages pages={g.pages} />
            </Opens>
          ),
        )}
      </Box>
      <Box sx={{ display: { xs: 'block', lg: 'none' } }}>
        <Opens title="Menu" pages={[]}>
          <Box sx={{ display: 'grid', gridTemplateColumns: 'repeat(2, minmax(120px, auto))', columnGap: 3, rowGap: 1 }}>
            {shown.map((g) => (
              <Box key={g.title}>
                <Box sx={{ color: 'text.secondary', fontSize: 13, pt: 0.5 }}>{g.title}</Box>
                <Pages pages={g.pages} />
              </Box>
            ))}
          </Box>
        </Opens>
      </Box>
    </Box>
  )
}

/** Opens is a button with what it shows below it, until a page is chosen, Escape pressed or the focus leaves. */
function Opens({ title, pages, children }: { title: string; pages: PageLink[]; children: ReactNode }) {
  const { pathname } = useLocation()
  const [at, setAt] = useState('') // the address at which it was opened
  const button = useRef<HTMLButtonElement>(null)
  const box = useRef<HTMLDivElement>(null)
  const open = at === pathname
  useEffect(() => {
    if (!open) return
    const outside = (e: Event) => {
      if (e.target instanceof Node && !box.current?.contains(e.target)) setAt('')
    }
    document.addEventListener('pointerdown', outside)
    document.addEventListener('focusin', outside)
    return () => {
      document.removeEventListener('pointerdown', outside)
      document.removeEventListener('focusin', outside)
    }
  }, [open])
  const here = pages.some((p) => within(p.to, pathname))
  return (
    <Box
      ref={box}
      sx={{ position: 'relative', display: 'inline-block' }}
      onKeyDown={(e) => {
        if (e.key !== 'Escape' || !open) return
        setAt('')
        button.current?.focus()
      }}
    >
      <Button
        ref={button}
        color="inherit"
        aria-expanded={open}
        onClick={() => setAt(open ? '' : pathname)}
        sx={{
          px: 0.5,
          py: 1.25,
          minWidth: 0,
          borderRadius: 0,
          fontSize: 'inherit',
          fontWeight: 600,
          color: here ? 'text.primary' : 'text.secondary',
          borderBottom: '2px solid',
          borderColor: here ? 'seal' : 'transparent',
          '&::after': { content: '"▾"', ml: 0.5 },
        }}
      >
        {title}
      </Button>
      {open && (
        <Box
          sx={{
            position: 'absolute',
            zIndex: 1200,
            top: '100%',
            left: 0,
            px: 2,
            py: 1,
            bgcolor: 'background.paper',
            border: 1,
            borderColor: 'divider',
            borderRadius: 1,
            boxShadow: 3,
          }}
        >
          {children}
        </Box>
      )}
    </Box>
  )
}

function Pages({ pages }: { pages: PageLink[] }) {
  return (
    <Box component="ul" sx={{ listStyle: 'none', m: 0, p: 0 }}>
      {pages.map((p) => (
        <Box component="li" key={p.to} sx={{ whiteSpace: 'nowrap' }}>
          <Page {...p} below />
        </Box>
      ))}
    </Box>
  )
}

function Page({ to, title, below }: PageLink & { below?: boolean }) {
  return (
    <Link
      component={NavLink}
      to={to}
      end={to === '/'}
      underline="none"
      sx={{
        display: 'inline-block',
        py: below ? 0.5 : 1.5,
        color: 'text.secondary',
        fontWeight: 600,
        borderBottom: '2px solid transparent',
        '&.active': { color: 'text.primary', borderColor: 'seal' },
        '&:hover': { color: 'text.primary' },
      }}
    >
      {title}
    </Link>
  )
}
