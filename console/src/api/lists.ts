import { api, take, type Batch, type Device, type Replacement, type Schemas, type Slot, type Task } from './client'
import { keys } from './keys'

/** Filter is what narrows a list, by name. */
export type Filter = Record<string, string>

/** Wanted is the part of a list that is asked for. */
export type Wanted = {
  sort?: string
  desc?: 'true' | 'false'
  limit?: string
  cursor?: string
  skip?: string
  count?: 'true' | 'false'
}
export type Rows<T> = { items: T[]; next?: string; total?: number | null }

/** ServedList is a list of the service: where its pages are cached, what narrows it, and how a page is asked for. */
export type ServedList<T> = {
  name: string
  keyed: readonly string[]
  filters: string[]
  load: (filter: Filter) => (wanted: Wanted) => Promise<Rows<T>>
}

export const slotsList: ServedList<Slot> = {
  name: 'Slots',
  keyed: keys.slots,
  filters: [
    'text',
    'condition',
    'site',
    'family',
    'tag',
    'owner',
    'signer',
    'issuer',
    'key_type',
    'signature',
    'ends',
    'serves',
  ],
  load: (filter) => (wanted) => take(api.GET('/api/v1/slots', { params: { query: { ...filter, ...wanted } } })),
}

export const devicesList: ServedList<Device> = {
  name: 'Devices',
  keyed: keys.devices,
  filters: ['text', 'condition', 'site', 'family', 'tag', 'owner', 'cluster'],
  load: (filter) => (wanted) => take(api.GET('/api/v1/devices', { params: { query: { ...filter, ...wanted } } })),
}

export const replacementsList: ServedList<Replacement> = {
  name: 'Replacements',
  keyed: keys.replacements,
  filters: ['text', 'state', 'signer', 'parcel'],
  load: (filter) => (wanted) => take(api.GET('/api/v1/replacements', { params: { query: { ...filter, ...wanted } } })),
}

export const pendingList: ServedList<Replacement> = {
  name: 'Pending requests',
  keyed: keys.replacements,
  filters: [],
  load: () => (wanted) =>
    take(api.GET('/api/v1/replacements', { params: { query: { state: 'waiting', stage: 'sign', ...wanted } } })),
}

export const batchesList: ServedList<Batch> = {
  name: 'Batches',
  keyed: keys.batches,
  filters: [],
  load: () => (wanted) => take(api.GET('/api/v1/batches', { params: { query: wanted } })),
}

export const itemsList = (id: string): ServedList<Schemas['BatchItem']> => ({
  name: 'Slots of the batch',
  keyed: [...keys.batches, id, 'items'],
  filters: ['outcome', 'state'],
  load: (filter) => (wanted) =>
    take(api.GET('/api/v1/batches/{id}/items', { params: { path: { id }, query: { ...filter, ...wanted } } })),
})

export const tasksList: ServedList<Task> = {
  name: 'Tasks',
  keyed: keys.tasks,
  filters: [],
  load: () => (wanted) => take(api.GET('/api/v1/tasks', { params: { query: wanted } })),
}

export const parcelsList: ServedList<Schemas['Parcel']> = {
  name: 'Parcels',
  keyed: keys.parcels,
  filters: [],
  load: () => (wanted) => take(api.GET('/api/v1/parcels', { params: { query: wanted } })),
}

export const auditList: ServedList<Schemas['AuditEntry']> = {
  name: 'Audit log',
  keyed: keys.audit,
  filters: ['text', 'who', 'from', 'until'],
  load: (filter) => (wanted) => take(api.GET('/api/v1/audit', { params: { query: { ...filter, ...wanted } } })),
}
