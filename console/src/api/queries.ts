import { QueryClient, queryOptions } from '@tanstack/react-query'
import { ApiError, api, take, type Schemas, type Slot } from './client'

export const queryClient = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (count, error) => count < 2 && !(error instanceof ApiError && error.status >= 400 && error.status < 500),
      staleTime: 2_000,
    },
  },
})

export const sessionQuery = queryOptions({ queryKey: ['session'], queryFn: () => take(api.GET('/api/v1/session')), staleTime: 60_000 })

/** allSlots fetches the whole list, page after page. */
async function allSlots() {
  const all: Slot[] = []
  for (let cursor: string | undefined = ''; cursor !== undefined; ) {
    const page: Schemas['SlotList'] = await take(api.GET('/api/v1/slots', { params: { query: { cursor } } }))
    all.push(...page.items)
    cursor = page.next || undefined
  }
  return all
}

export const slotsQuery = queryOptions({
  queryKey: ['slots'],
  queryFn: allSlots,
  refetchInterval: 10_000,
})

export const slotQuery = (device: string, slot: string) =>
  queryOptions({ queryKey: ['slots', device, slot], queryFn: () => take(api.GET('/api/v1/slots/{device}/{slot}', { params: { path: { device, slot } } })) })

export const readingsQuery = (device: string, slot: string) =>
  queryOptions({
    queryKey: ['slots', device, slot, 'readings'],
    queryFn: async () => (await take(api.GET('/api/v1/slots/{device}/{slot}/readings', { params: { path: { device, slot } } }))).items,
  })

export const signersQuery = queryOptions({ queryKey: ['signers'], queryFn: async () => (await take(api.GET('/api/v1/signers'))).items, staleTime: 600_000 })

export const parcelsQuery = queryOptions({ queryKey: ['parcels'], queryFn: async () => (await take(api.GET('/api/v1/parcels'))).items })

export const replacementsQuery = (device = '', slot = '') =>
  queryOptions({
    queryKey: ['replacements', 'of', device, slot],
    queryFn: async () => (await take(api.GET('/api/v1/replacements', { params: { query: { device, slot } } }))).items,
    refetchInterval: 5_000,
  })

export const replacementQuery = (id: string) =>
  queryOptions({ queryKey: ['replacements', id], queryFn: () => take(api.GET('/api/v1/replacements/{id}', { params: { path: { id } } })) })
