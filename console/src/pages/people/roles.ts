import type { Schemas } from '../../api/client'

export type Role = Schemas['User']['role']

export const roles: Record<Role, string> = {
  viewer: 'read only',
  approver: 'approves, changes nothing else',
  operator: 'reads, replaces, runs intakes',
  admin: 'everything',
}

export const roleOptions = (Object.keys(roles) as Role[]).map((r) => ({ value: r, label: `${r}: ${roles[r]}` }))
