import { createBrowserRouter } from 'react-router'
import { Shell } from './Shell'
import { RouteProblem } from '../parts/Problem'

// Each page is a chunk of its own, loaded when it is first opened.
export const router = createBrowserRouter([
  { path: '/sign-in', HydrateFallback: () => null, lazy: async () => ({ Component: (await import('../pages/signin/SignIn')).SignIn }) },
  {
    path: '/',
    Component: Shell,
    ErrorBoundary: RouteProblem,
    HydrateFallback: () => null,
    children: [
      { index: true, lazy: async () => ({ Component: (await import('../pages/overview/Overview')).Overview }) },
      { path: 'slots', lazy: async () => ({ Component: (await import('../pages/slots/Slots')).Slots }) },
      { path: 'desk', lazy: async () => ({ Component: (await import('../pages/desk/Desk')).Desk }) },
      { path: 'devices', lazy: async () => ({ Component: (await import('../pages/devices/Devices')).Devices }) },
      { path: 'devices/:name', lazy: async () => ({ Component: (await import('../pages/device/DevicePage')).DevicePage }) },
      { path: 'families', lazy: async () => ({ Component: (await import('../pages/families/Families')).Families }) },
      { path: 'people', lazy: async () => ({ Component: (await import('../pages/people/People')).People }) },
      { path: 'settings', lazy: async () => ({ Component: (await import('../pages/settings/Settings')).Settings }) },
      { path: 'ledger', lazy: async () => ({ Component: (await import('../pages/ledger/Ledger')).Ledger }) },
      { path: 'slots/:device/:slot', lazy: async () => ({ Component: (await import('../pages/slot/SlotPage')).SlotPage }) },
      { path: 'replacements', lazy: async () => ({ Component: (await import('../pages/replacements/Replacements')).Replacements }) },
      { path: 'replacements/:id', lazy: async () => ({ Component: (await import('../pages/replacement/ReplacementPage')).ReplacementPage }) },
    ],
  },
])
