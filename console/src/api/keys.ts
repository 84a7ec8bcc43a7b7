// The keys of everything that is cached, in one place: what is fetched under a key
// begins with its noun, so that a change can name the nouns that it touches.

export const keys = {
  session: ['session'],
  status: ['status'],
  settings: ['settings'],
  slots: ['slots'],
  devices: ['devices'],
  replacements: ['replacements'],
  batches: ['batches'],
  tasks: ['tasks'],
  pins: ['pins'],
  tellings: ['tellings'],
  parcels: ['parcels'],
  asides: ['asides'],
  signers: ['signers'],
  sites: ['sites'],
  credentials: ['credentials'],
  families: ['families'],
  policies: ['policies'],
  anchors: ['anchors'],
  users: ['users'],
  tokens: ['tokens'],
  views: ['views'],
  facets: ['facets'],
  protocols: ['protocols'],
  ledger: ['ledger'],
  certificates: ['certificates'],
  search: ['search'],
} as const

export type Noun = keyof typeof keys

/** touches says which nouns a change of one noun makes stale: those whose answers tell of it. */
export const touches: Partial<Record<Noun, Noun[]>> = {
  devices: ['devices', 'slots', 'status', 'facets', 'families', 'credentials', 'ledger'],
  slots: ['slots', 'devices', 'status'],
  replacements: ['replacements', 'batches', 'tasks', 'tellings', 'slots', 'devices', 'parcels', 'status', 'ledger'],
  batches: ['batches', 'replacements', 'status', 'ledger'],
  tasks: ['tasks', 'replacements', 'status', 'ledger'],
  pins: ['pins', 'ledger'],
  tellings: ['tellings', 'replacements', 'status', 'ledger'],
  parcels: ['parcels', 'replacements', 'status', 'ledger'],
  asides: ['asides', 'parcels', 'replacements', 'tasks', 'slots', 'anchors', 'status', 'ledger'],
  signers: ['signers', 'slots', 'status', 'ledger'],
  sites: ['sites', 'devices', 'facets', 'ledger'],
  credentials: ['credentials', 'devices', 'ledger'],
  policies: ['policies', 'slots', 'status', 'ledger'],
  anchors: ['anchors', 'slots', 'status', 'certificates', 'ledger'],
  users: ['users', 'tokens', 'ledger'],
  tokens: ['tokens', 'ledger'],
  views: ['views'],
}
