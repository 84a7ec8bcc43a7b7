import type { ComponentType } from 'react'
import { createBrowserRouter, redirect, type LoaderFunctionArgs, type RouteObject } from 'react-router'
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
    lazy: { Component: load },
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

export const router = createBrowserRouter([
  {
    path: '/sign-in',
    HydrateFallback: () => null,
    lazy: { Component: async () => (await import('../pages/signin/SignIn')).SignIn },
  },
  {
    path: '/',
    Component: Shell,
    ErrorBoundary: RouteProblem,
    HydrateFallback: () => null,
    children: [
      page(
        '',
        async () => (await import('../pages/overview/Overview')).Overview,
        () => ahead(statusQuery),
      ),
      page(
        'slots',
        async () => (await import('../pages/slots/Slots')).Slots,
        ({ search }) => beforehand(slotsList, search),
      ),
      page(
        'slots/:device/:slot',
        async () => (await import('../pages/slot/SlotPage')).SlotPage,
        ({ params }) => ahead(slotQuery(name(params, 'device'), name(params, 'slot'))),
      ),
      page(
        'devices',
        async () => (await import('../pages/devices/Devices')).Devices,
        ({ search }) => beforehand(devicesList, search),
      ),
      page(
        'devices/:name',
        async () => (await import('../pages/device/DevicePage')).DevicePage,
        ({ params }) => ahead(deviceQuery(name(params, 'name'))),
      ),
      page('replacements', async () => (await import('../pages/replacements/Replacements')).Replacements),
      page(
        'replacements/:id',
        async () => (await import('../pages/replacement/ReplacementPage')).ReplacementPage,
        ({ params }) => ahead(replacementQuery(name(params, 'id'))),
      ),
      page('batches/:id', async () => (await import('../pages/batch/BatchPage')).BatchPage),
      page('ahead', async () => (await import('../pages/ahead/Ahead')).Ahead),
      page('calendar', async () => (await import('../pages/calendar/CalendarPage')).CalendarPage),
      page('notices', async () => (await import('../pages/notices/Notices')).Notices),
      page('discovery', async () => (await import('../pages/discovery/DiscoveryPage')).DiscoveryPage),
      page('discovery/:id', async () => (await import('../pages/discovery/DiscoveryPage')).DiscoveryPage),
      page('tasks', async () => (await import('../pages/tasks/Tasks')).Tasks),
      page('desk', async () => (await import('../pages/desk/Desk')).Desk),
      page('families', async () => (await import('../pages/families/Families')).Families),
      page('people', async () => (await import('../pages/people/People')).People),
      page('audit', async () => (await import('../pages/audit/Audit')).Audit),
      { path: 'settings', loader: () => redirect('/settings/policy'), Component: () => null },
      page('settings/:part', async () => (await import('../pages/settings/Settings')).Settings),
      page('*', async () => (await import('../pages/nowhere/Nowhere')).Nowhere),
    ],
  },
])
