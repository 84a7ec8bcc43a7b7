import { QueryClient, queryOptions } from '@tanstack/react-query'
import { ApiError, api, take } from './client'

export const queryClient = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (count, error) => count < 2 && !(error instanceof ApiError && error.status >= 400 && error.status < 500),
      staleTime: 2_000,
    },
  },
})

const items = <T>(list: { items: T[] }) => list.items
const at = (name: string) => ({ params: { path: { name } } })

export const sessionQuery = queryOptions({ queryKey: ['session'], queryFn: () => take(api.GET('/api/v1/session')), staleTime: 60_000 })

export const statusQuery = queryOptions({ queryKey: ['status'], queryFn: () => take(api.GET('/api/v1/status')), refetchInterval: 10_000 })

export const settingsQuery = queryOptions({ queryKey: ['settings'], queryFn: () => take(api.GET('/api/v1/settings')), staleTime: 600_000 })

/** slotsQuery is the beginning of a list of slots. */
export const slotsQuery = (query: { device?: string; condition?: string; sort?: string; limit?: string }) =>
  queryOptions({ queryKey: ['slots', 'some', query], queryFn: async () => items(await take(api.GET('/api/v1/slots', { params: { query } }))), refetchInterval: 10_000 })

export const slotQuery = (device: string, slot: string) =>
  queryOptions({ queryKey: ['slots', device, slot], queryFn: () => take(api.GET('/api/v1/slots/{device}/{slot}', { params: { path: { device, slot } } })) })

export const readingsQuery = (device: string, slot: string) =>
  queryOptions({
    queryKey: ['slots', device, slot, 'readings'],
    queryFn: async () => items(await take(api.GET('/api/v1/slots/{device}/{slot}/readings', { params: { path: { device, slot } } }))),
  })

/** deviceQuery gives a device with its ETag, by which a change is guarded. */
export const deviceQuery = (name: string) =>
  queryOptions({
    queryKey: ['devices', name],
    queryFn: async () => {
      const call = api.GET('/api/v1/devices/{name}', at(name))
      return { device: await take(call), etag: (await call).response.headers.get('ETag') ?? '' }
    },
  })

export const sitesQuery = queryOptions({ queryKey: ['sites'], queryFn: async () => items(await take(api.GET('/api/v1/sites'))) })
export const credentialsQuery = queryOptions({ queryKey: ['credentials'], queryFn: async () => items(await take(api.GET('/api/v1/credentials'))) })
export const familiesQuery = queryOptions({ queryKey: ['procedures'], queryFn: async () => items(await take(api.GET('/api/v1/procedures'))) })
export const policiesQuery = queryOptions({ queryKey: ['policies'], queryFn: async () => items(await take(api.GET('/api/v1/policies'))) })
export const anchorsQuery = queryOptions({ queryKey: ['anchors'], queryFn: async () => items(await take(api.GET('/api/v1/audiences/{name}/anchors', at('fleet')))) })
export const usersQuery = queryOptions({ queryKey: ['users'], queryFn: async () => items(await take(api.GET('/api/v1/users'))) })
export const tokensQuery = queryOptions({ queryKey: ['tokens'], queryFn: async () => items(await take(api.GET('/api/v1/tokens'))) })
export const signersQuery = queryOptions({ queryKey: ['signers'], queryFn: async () => items(await take(api.GET('/api/v1/signers'))), staleTime: 600_000 })
export const parcelsQuery = queryOptions({ queryKey: ['parcels'], queryFn: async () => items(await take(api.GET('/api/v1/parcels'))) })
export const asidesQuery = queryOptions({ queryKey: ['asides'], queryFn: async () => items(await take(api.GET('/api/v1/asides'))) })
export const tasksQuery = queryOptions({ queryKey: ['tasks'], queryFn: async () => items(await take(api.GET('/api/v1/tasks'))), refetchInterval: 5_000 })

/** replacementsQuery is the newest replacements, of one device or in one state where that is asked for. */
export const replacementsQuery = (query: { device?: string; slot?: string; state?: 'running' | 'waiting' | 'held'; waiting_for?: 'signer'; limit?: string } = {}) =>
  queryOptions({
    queryKey: ['replacements', 'of', query],
    queryFn: async () => items(await take(api.GET('/api/v1/replacements', { params: { query } }))),
    refetchInterval: 5_000,
  })

export const replacementQuery = (id: string) =>
  queryOptions({ queryKey: ['replacements', id], queryFn: () => take(api.GET('/api/v1/replacements/{id}', { params: { path: { id } } })) })
