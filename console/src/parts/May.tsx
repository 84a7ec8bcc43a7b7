import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import type { ReactNode } from 'react'
import type { Role } from '../api/client'
import { sessionQuery } from '../api/queries'

const roles: Role[] = ['viewer', 'approver', 'operator', 'admin']

/** reaches says that a role may do what another one may. */
export const reaches = (role: Role | undefined, needed: Role) =>
  role !== undefined && roles.indexOf(role) >= roles.indexOf(needed)

/** useMay says whether the user may do what needs a role. */
export function useMay(needed: Role) {
  return reaches(useQuery(sessionQuery).data?.role, needed)
}

/** May offers what the user's role may do; to others it says who can, where that is told. */
export function May({ role, what, children }: { role: Role; what?: string; children: ReactNode }) {
  if (useMay(role)) return <>{children}</>
  if (!what) return null
  return (
    <Typography variant="body2" sx={{ color: 'text.secondary' }}>
      {what} needs the role {role}.
    </Typography>
  )
}
