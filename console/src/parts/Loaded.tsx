import Skeleton from '@mui/material/Skeleton'
import type { UseQueryResult } from '@tanstack/react-query'
import type { ReactNode } from 'react'
import { Problem } from './Problem'

/** Loaded shows what was loaded. What is there stays when it cannot be loaded again. */
export function Loaded<T>({
  query,
  height = 240,
  children,
}: {
  query: UseQueryResult<T>
  height?: number
  children: (data: T) => ReactNode
}) {
  if (query.data !== undefined) return <>{children(query.data)}</>
  if (query.error) return <Problem error={query.error} again={() => void query.refetch()} />
  return <Skeleton variant="rounded" height={height} />
}
