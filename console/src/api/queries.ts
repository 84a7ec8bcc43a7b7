import { QueryClient, queryOptions, useMutation } from '@tanstack/react-query'
import { ApiError, api, take } from './client'
import { keys, touches, type Noun } from './keys'

export const queryClient = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (count, error) => count < 2 && !(error instanceof ApiError && error.status >= 400 && error.status < 500),
      staleTime: 2_000,
    },
  },
})

/** stale has everything read again that a change of these nouns makes stale. */
export function stale(...nouns: Noun[]) {
  const all = new Set(nouns.flatMap((noun) => touches[noun] ?? [noun]))
  return Promise.all([...all].map((noun) => queryClient.invalidateQueries({ queryKey: keys[noun] })))
}

type Asked<T> = { queryKey: readonly unknown[]; queryFn?: (...about: never[]) => T | Promise<T>; staleTime?: unknown }

/** ahead asks for something before it is shown. What goes wrong is told where it is shown. */
export function ahead<T>(options: Asked<T>) {
  queryClient.query(options as Parameters<typeof queryClient.query>[0]).catch(() => undefined)
}

type Change<In, Out> = { do: (what: In) => Promise<Out>; of: Noun; done?: (out: Out) => void }

/**
 * useChange changes something and has read again what tells of it, also where it was refused: then somebody else may
 * have changed it.
 */
export function useChange<In = void, Out = unknown>(c: Change<In, Out>) {
  return useMutation<Out, Error, In>({
    mutationFn: c.do,
    onSuccess: (out) => c.done?.(out),
    onSettled: () => void stale(c.of),
  })
}

const items = <T>(list: { items: T[] }) => list.items
const at = (name: string) => ({ params: { path: { name } } })

export const sessionQuery = queryOptions({
  queryKey: keys.session,
  queryFn: () => take(api.GET('/api/v1/session')),
  staleTime: 60_000,
})
export const statusQuery = queryOptions({
  queryKey: keys.status,
  queryFn: () => take(api.GET('/api/v1/status')),
  refetchInterval: 10_000,
})
export const settingsQuery = queryOptions({
  queryKey: keys.settings,
  queryFn: () => take(api.GET('/api/v1/settings')),
  staleTime: 600_000,
})
export const protocolsQuery = queryOptions({
  queryKey: keys.protocols,
  queryFn: async () => items(await take(api.GET('/api/v1/protocols'))),
  staleTime: Infinity,
})
export const facetsQuery = queryOptions({
  queryKey: keys.facets,
  queryFn: () => take(api.GET('/api/v1/facets')),
  staleTime: 30_000,
})

/** slotsQuery is the beginning of a list of slots. */
export const slotsQuery = (query: { device?: string; condition?: string; sort?: string; limit?: string }) =>
  queryOptions({
    queryKey: [...keys.slots, 'some', query],
    queryFn: async () => items(await take(api.GET('/api/v1/slots', { params: { query } }))),
    refetchInterval: 10_000,
  })

export const slotQuery = (device: string, slot: string) =>
  queryOptions({
    queryKey: [...keys.slots, device, slot],
    queryFn: () => take(api.GET('/api/v1/slots/{device}/{slot}', { params: { path: { device, slot } } })),
  })

export const readingsQuery = (device: string, slot: string) =>
  queryOptions({
    queryKey: [...keys.slots, device, slot, 'readings'],
    queryFn: async () =>
      items(await take(api.GET('/api/v1/slots/{device}/{slot}/readings', { params: { path: { device, slot } } }))),
  })

export const certificateQuery = (sha256: string) =>
  queryOptions({
    queryKey: [...keys.certificates, sha256],
    queryFn: () => take(api.GET('/api/v1/certificates/{sha256}', { params: { path: { sha256 } } })),
    staleTime: 60_000,
    enabled: sha256 !== '',
  })

export const deviceQuery = (name: string) =>
  queryOptions({ queryKey: [...keys.devices, name], queryFn: () => take(api.GET('/api/v1/devices/{name}', at(name))) })

export const sitesQuery = queryOptions({
  queryKey: keys.sites,
  queryFn: async () => items(await take(api.GET('/api/v1/sites'))),
})
export const credentialsQuery = queryOptions({
  queryKey: keys.credentials,
  queryFn: async () => items(await take(api.GET('/api/v1/credentials'))),
})
export const familiesQuery = queryOptions({
  queryKey: keys.families,
  queryFn: async () => items(await take(api.GET('/api/v1/procedures'))),
  staleTime: 10_000,
})
export const policiesQuery = queryOptions({
  queryKey: keys.policies,
  queryFn: async () => items(await take(api.GET('/api/v1/policies'))),
})
export const anchorsQuery = queryOptions({
  queryKey: keys.anchors,
  queryFn: async () => items(await take(api.GET('/api/v1/trust-groups/{name}/anchors', at('fleet')))),
})
export const usersQuery = queryOptions({
  queryKey: keys.users,
  queryFn: async () => items(await take(api.GET('/api/v1/users'))),
})
export const sessionsQuery = (all: boolean) =>
  queryOptions({
    queryKey: [...keys.sessions, all],
    queryFn: async () =>
      items(await take(api.GET('/api/v1/sessions', { params: { query: all ? { all: 'true' } : {} } }))),
  })
export const signInPolicyQuery = queryOptions({
  queryKey: keys.signInPolicy,
  queryFn: () => take(api.GET('/api/v1/sign-in-policy')),
})
export const auditStreamQuery = queryOptions({
  queryKey: keys.auditStream,
  queryFn: () => take(api.GET('/api/v1/audit/stream')),
  refetchInterval: 10_000,
})
export const tokensQuery = queryOptions({
  queryKey: keys.tokens,
  queryFn: async () => items(await take(api.GET('/api/v1/tokens'))),
})
export const signersQuery = queryOptions({
  queryKey: keys.signers,
  queryFn: async () => items(await take(api.GET('/api/v1/signers'))),
  staleTime: 30_000,
})
export const benchQuery = queryOptions({
  queryKey: [...keys.signers, 'bench'],
  queryFn: () => take(api.GET('/api/v1/bench')),
  staleTime: 30_000,
})
export const unmatchedQuery = queryOptions({
  queryKey: keys.unmatched,
  queryFn: async () => items(await take(api.GET('/api/v1/unmatched'))),
})
export const viewsQuery = queryOptions({
  queryKey: keys.views,
  queryFn: async () => items(await take(api.GET('/api/v1/views'))),
  staleTime: 60_000,
})

export const expiriesQuery = queryOptions({
  queryKey: [...keys.ahead, 'expiries'],
  queryFn: () => take(api.GET('/api/v1/expiries')),
  staleTime: 30_000,
})
export const expiringQuery = queryOptions({
  queryKey: [...keys.ahead, 'else'],
  queryFn: async () => items(await take(api.GET('/api/v1/expiring', { params: { query: { within: '3650' } } }))),
  staleTime: 60_000,
})

/** forecastQuery counts the replacements to come. */
export const forecastQuery = (query: { weeks: string; site: string; public: 'true' | 'false' }) =>
  queryOptions({
    queryKey: [...keys.ahead, 'forecast', query],
    queryFn: () => take(api.GET('/api/v1/forecast', { params: { query } })),
    staleTime: 60_000,
  })

/** urgentQuery is what people must look at: how many slots of each part, and the first of them. */
export const urgentQuery = queryOptions({
  queryKey: [...keys.slots, 'urgent'],
  queryFn: () => take(api.GET('/api/v1/urgent')),
  // the overview is left open on a wall: dates come nearer without any event
  refetchInterval: 60_000,
})

/** daysQuery is the days of a month (2027-03) on which something is due. */
export const daysQuery = (month: string) =>
  queryOptions({
    queryKey: [...keys.slots, 'days', month],
    queryFn: async () => items(await take(api.GET('/api/v1/days', { params: { query: { month } } }))),
    staleTime: 30_000,
  })

export const discoveriesQuery = queryOptions({
  queryKey: keys.discoveries,
  queryFn: async () => items(await take(api.GET('/api/v1/discoveries'))),
  refetchInterval: (q) => (q.state.data?.some((s) => !s.ended_at) ? 1_000 : false),
})

export const discoveryQuery = (id: string) =>
  queryOptions({
    queryKey: [...keys.discoveries, id],
    queryFn: () => take(api.GET('/api/v1/discoveries/{id}', { params: { path: { id } } })),
    refetchInterval: (q) => (q.state.data?.ended_at ? false : 2_000),
  })

export const channelsQuery = queryOptions({
  queryKey: keys.channels,
  queryFn: async () => items(await take(api.GET('/api/v1/channels'))),
})
export const noticeRulesQuery = queryOptions({
  queryKey: keys.rules,
  queryFn: async () => items(await take(api.GET('/api/v1/notice-rules'))),
})
export const acknowledgedQuery = queryOptions({
  queryKey: [...keys.notices, 'acknowledged'],
  queryFn: async () => items(await take(api.GET('/api/v1/acknowledgements'))),
})

/** noticesQuery is the newest notices, of one slot where it is named. */
export const noticesQuery = (slot?: string) =>
  queryOptions({
    queryKey: [...keys.notices, 'newest', slot ?? ''],
    queryFn: async () =>
      items(await take(api.GET('/api/v1/notices', { params: { query: { limit: '100', ...(slot && { slot }) } } }))),
    refetchInterval: 10_000,
  })

/** tasksQuery is the beginning of what waits for a person; of one replacement where it is named. */
export const tasksQuery = (replacement?: string) =>
  queryOptions({
    queryKey: [...keys.tasks, 'some', replacement ?? ''],
    queryFn: async () =>
      items(
        await take(api.GET('/api/v1/tasks', { params: { query: replacement ? { replacement } : { limit: '10' } } })),
      ),
    refetchInterval: 5_000,
  })

/** replacementsQuery is the newest replacements, of one device or in one state where that is asked for. */
export const replacementsQuery = (
  query: { device?: string; slot?: string; state?: 'running' | 'waiting' | 'held'; limit?: string } = {},
) =>
  queryOptions({
    queryKey: [...keys.replacements, 'of', query],
    queryFn: async () => items(await take(api.GET('/api/v1/replacements', { params: { query } }))),
    refetchInterval: 5_000,
  })

export const replacementQuery = (id: string) =>
  queryOptions({
    queryKey: [...keys.replacements, id],
    queryFn: () => take(api.GET('/api/v1/replacements/{id}', { params: { path: { id } } })),
  })

export const batchQuery = (id: string) =>
  queryOptions({
    queryKey: [...keys.batches, id],
    queryFn: () => take(api.GET('/api/v1/batches/{id}', { params: { path: { id } } })),
  })

export const pinsQuery = (device: string, slot: string) =>
  queryOptions({
    queryKey: [...keys.pins, device, slot],
    queryFn: async () => items(await take(api.GET('/api/v1/pins', { params: { query: { device, slot } } }))),
  })

/** pinUpdatesQuery returns the pending pins; of a replacement the confirmed ones too. */
export const pinUpdatesQuery = (replacement?: string) =>
  queryOptions({
    queryKey: [...keys.pinUpdates, replacement ?? 'open'],
    queryFn: async () =>
      items(await take(api.GET('/api/v1/pin-updates', { params: { query: replacement ? { replacement } : {} } }))),
    refetchInterval: 10_000,
  })
