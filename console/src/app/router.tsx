import { Suspense, lazy, type ComponentType } from 'react'
import { Navigate, Route, Routes, matchPath, useLocation, type Params } from 'react-router'
import { chunk } from '../api/chunk'
import { devicesList, slotsList } from '../api/lists'
import { ahead, deviceQuery, replacementQuery, slotQuery, statusQuery } from '../api/queries'
import { beforehand } from '../parts/list/beforehand'
import { Failing } from '../parts/Problem'
import { Shell } from './Shell'
import { useScrollPosition } from './useScrollPosition'

type Ask = (at: { params: Params; search: URLSearchParams }) => void

type Page = { path: string; load: () => Promise<ComponentType>; Shown: ComponentType; ask?: Ask }

// A page is a chunk of its own, loaded when it is first opened; what it shows is asked
// for beside it. Nothing waits for the answer here.
function page(path: string, load: () => Promise<ComponentType>, ask?: Ask): Page {
  return { path, load, Shown: lazy(async () => ({ default: await load() })), ...(ask && { ask }) }
}

const name = (p: Params, key: string) => p[key] ?? ''

const pages: Page[] = [
  page(
    '/',
    async () => (await chunk(import('../pages/overview/Overview'))).Overview,
    () => ahead(statusQuery),
  ),
  page(
    '/slots',
    async () => (await chunk(import('../pages/slots/Slots'))).Slots,
    ({ search }) => beforehand(slotsList, search),
  ),
  page(
    '/slots/:device/:slot',
    async () => (await chunk(import('../pages/slot/SlotPage'))).SlotPage,
    ({ params }) => ahead(slotQuery(name(params, 'device'), name(params, 'slot'))),
  ),
  page(
    '/devices',
    async () => (await chunk(import('../pages/devices/Devices'))).Devices,
    ({ search }) => beforehand(devicesList, search),
  ),
  page(
    '/devices/:name',
    async () => (await chunk(import('../pages/device/DevicePage'))).DevicePage,
    ({ params }) => ahead(deviceQuery(name(params, 'name'))),
  ),
  page('/replacements', async () => (await chunk(import('../pages/replacements/Replacements'))).Replacements),
  page(
    '/replacements/:id',
    async () => (await chunk(import('../pages/replacement/ReplacementPage'))).ReplacementPage,
    ({ params }) => ahead(replacementQuery(name(params, 'id'))),
  ),
  page('/batches/:id', async () => (await chunk(import('../pages/batch/BatchPage'))).BatchPage),
  page('/ahead', async () => (await chunk(import('../pages/ahead/Ahead'))).Ahead),
  page('/calendar', async () => (await chunk(import('../pages/calendar/CalendarPage'))).CalendarPage),
  page('/notices', async () => (await chunk(import('../pages/notices/Notices'))).Notices),
  page('/discovery', async () => (await chunk(import('../pages/discovery/DiscoveryPage'))).DiscoveryPage),
  page('/discovery/:id', async () => (await chunk(import('../pages/discovery/DiscoveryPage'))).DiscoveryPage),
  page('/tasks', async () => (await chunk(import('../pages/tasks/Tasks'))).Tasks),
  page('/desk', async () => (await chunk(import('../pages/desk/Desk'))).Desk),
  page('/families', async () => (await chunk(import('../pages/families/Families'))).Families),
  page('/people', async () => (await chunk(import('../pages/people/People'))).People),
  page('/compare', async () => (await chunk(import('../pages/compare/ComparePage'))).ComparePage),
  page('/audit', async () => (await chunk(import('../pages/audit/Audit'))).Audit),
  page('/settings/:part', async () => (await chunk(import('../pages/settings/Settings'))).Settings),
  page('*', async () => (await chunk(import('../pages/nowhere/Nowhere'))).Nowhere),
]

const signIn = page('/sign-in', async () => (await chunk(import('../pages/signin/SignIn'))).SignIn)

/** beginWith loads the page of an address, and what it shows, while nobody knows yet who is signed in. */
export function beginWith({ pathname, search }: Location) {
  const first = [signIn, ...pages].find((p) => matchPath(p.path, pathname))
  first?.load().catch(() => undefined) // it is told where it is shown
  if (first) asked(first, pathname, search)
}

let last = '' // the address that was asked for last

// Once for each address: a page is drawn more than once before all of it is there.
function asked(p: Page, pathname: string, search: string) {
  if (last === pathname) return
  last = pathname
  p.ask?.({ params: matchPath(p.path, pathname)?.params ?? {}, search: new URLSearchParams(search) })
}

function Opened({ page }: { page: Page }) {
  const { pathname, search } = useLocation()
  asked(page, pathname, search)
  return (
    <Failing at={pathname}>
      <Suspense>
        <page.Shown />
      </Suspense>
    </Failing>
  )
}

/** Pages shows the page of the address. The one before stays until the code of the next is there. */
export function Pages() {
  const { pathname } = useLocation()
  useScrollPosition()
  return (
    <Failing at={pathname}>
      <Routes>
        <Route path={signIn.path} element={<Opened page={signIn} />} />
        <Route element={<Shell />}>
          <Route path="/settings" element={<Navigate to="/settings/policy" replace />} />
          {pages.map((p) => (
            <Route key={p.path} path={p.path} element={<Opened key={p.path} page={p} />} />
          ))}
        </Route>
      </Routes>
    </Failing>
  )
}
