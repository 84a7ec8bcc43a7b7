import type { ComponentType } from 'react'
import { createBrowserRouter, redirect, type LoaderFunctionArgs, type RouteObject } from 'react-router'
import { chunk } from '../api/chunk'
import { devicesList, slotsList } from '../api/lists'
import { ahead, deviceQuery, replacementQuery, slotQuery, statusQuery } from '../api/queries'
import { RouteProblem } from '../parts/Problem'
import { beforehand } from '../parts/list/beforehand'
import { Shell } from './Shell'

type Ask = (at: { params: LoaderFunctionArgs['params']; search: URLSearchParams }) => void

// A page is a chunk of its own, loaded when it is first opened; what it shows is asked
// for beside it. Nothing waits for the answer here.
function page(path: string, load: () => Promise<ComponentType>, ask?: Ask): RouteObject {
  return {
    path,
    lazy: async () => ({ Component: await load() }),
    ...(ask && {
      loader: ({ params, request }: LoaderFunctionArgs) => {
        ask({ params, search: new URL(request.url).searchParams })
        return null
      },
      shouldRevalidate: () => false,
    }),
  }
}

const name = (p: LoaderFunctionArgs['params'], key: string) => p[key] ?? ''

const pages: RouteObject[] = [
  page(
    '',
    async () => (await chunk(import('../pages/overview/Overview'))).Overview,
    () => ahead(statusQuery),
  ),
  page(
    'slots',
    async () => (await chunk(import('../pages/slots/Slots'))).Slots,
    ({ search }) => beforehand(slotsList, search),
  ),
  page(
    'slots/:device/:slot',
    async () => (await chunk(import('../pages/slot/SlotPage'))).SlotPage,
    ({ params }) => ahead(slotQuery(name(params, 'device'), name(params, 'slot'))),
  ),
  page(
    'devices',
    async () => (await chunk(import('../pages/devices/Devices'))).Devices,
    ({ search }) => beforehand(devicesList, search),
  ),
  page(
    'devices/:name',
    async () => (await chunk(import('../pages/device/DevicePage'))).DevicePage,
    ({ params }) => ahead(deviceQuery(name(params, 'name'))),
  ),
  page('replacements', async () => (await chunk(import('../pages/replacements/Replacements'))).Replacements),
  page(
    'replacements/:id',
    async () => (await chunk(import('../pages/replacement/ReplacementPage'))).ReplacementPage,
    ({ params }) => ahead(replacementQuery(name(params, 'id'))),
  ),
  page('batches/:id', async () => (await chunk(import('../pages/batch/BatchPage'))).BatchPage),
  page('ahead', async () => (await chunk(import('../pages/ahead/Ahead'))).Ahead),
  page('calendar', async () => (await chunk(import('../pages/calendar/CalendarPage'))).CalendarPage),
  page('notices', async () => (await chunk(import('../pages/notices/Notices'))).Notices),
  page('discovery', async () => (await chunk(import('../pages/discovery/DiscoveryPage'))).DiscoveryPage),
  page('discovery/:id', async () => (await chunk(import('../pages/discovery/DiscoveryPage'))).DiscoveryPage),
  page('tasks', async () => (await chunk(import('../pages/tasks/Tasks'))).Tasks),
  page('desk', async () => (await chunk(import('../pages/desk/Desk'))).Desk),
  page('families', async () => (await chunk(import('../pages/families/Families'))).Families),
  page('people', async () => (await chunk(import('../pages/people/People'))).People),
  page('compare', async () => (await chunk(import('../pages/compare/ComparePage'))).ComparePage),
  page('audit', async () => (await chunk(import('../pages/audit/Audit'))).Audit),
  { path: 'settings', loader: () => redirect('/settings/policy'), Component: () => null },
  page('settings/:part', async () => (await chunk(import('../pages/settings/Settings'))).Settings),
  page('*', async () => (await chunk(import('../pages/nowhere/Nowhere'))).Nowhere),
]

export const router = createBrowserRouter([
  {
    path: '/sign-in',
    HydrateFallback: () => null,
    lazy: async () => ({ Component: (await chunk(import('../pages/signin/SignIn'))).SignIn }),
  },
  {
    path: '/',
    Component: Shell,
    ErrorBoundary: RouteProblem,
    HydrateFallback: () => null,
    children: [{ ErrorBoundary: RouteProblem, children: pages }],
  },
])
