import Box from '@mui/material/Box'
import type { Slot } from '../api/client'

export type Condition = Slot['condition']

/** conditions are all conditions, worst first, with what they mean. */
export const conditions: Record<Condition, { tone: string; about: string; shape: string; hollow?: boolean }> = {
  unreachable: {
    tone: 'text.secondary',
    about: 'could not be read',
    shape: 'M8 2a6 6 0 100 12A6 6 0 008 2z',
    hollow: true,
  },
  expired: {
    tone: 'error.main',
    about: 'its certificate has expired',
    shape: 'M4 2L8 6l4-4 2 2-4 4 4 4-2 2-4-4-4 4-2-2 4-4-4-4z',
  },
  unexpected: {
    tone: 'error.main',
    about: 'serves something else than was installed',
    shape: 'M8 1l7 7-7 7-7-7z',
    hollow: true,
  },
  factory: {
    tone: 'error.main',
    about: 'serves the certificate it was delivered with',
    shape: 'M2 2h12v12H2zM5 5v6h6V5z',
  },
  flawed: {
    tone: 'warning.main',
    about: 'something is wrong with its certificate or chain',
    shape: 'M8 1.500L15 14H1z',
  },
  overdue: { tone: 'warning.main', about: 'past the date by which somebody had to act', shape: 'M8 1l7 7-7 7-7-7z' },
  due: {
    tone: 'primary.main',
    about: 'inside the renewal period',
    shape: 'M8 2a6 6 0 100 12zM8 2a6 6 0 110 12',
    hollow: true,
  },
  fresh: { tone: 'success.main', about: 'all is well', shape: 'M8 2a6 6 0 100 12A6 6 0 008 2z' },
}

/** ConditionMark names a condition beside a shape of its own, so that colour is never needed. */
export function ConditionMark({ condition, readAt }: { condition: Condition; readAt?: string | null | undefined }) {
  const c = conditions[condition]
  const unread = condition === 'unreachable' && readAt === null // unreachable says too much before the first reading
  return (
    <Box
      component="span"
      title={unread ? 'it was not read yet' : c.about}
      sx={{
        display: 'inline-flex',
        alignItems: 'center',
        gap: 0.75,
        fontWeight: 600,
        color: c.tone,
        whiteSpace: 'nowrap',
      }}
    >
      <svg viewBox="0 0 16 16" width="12" height="12" aria-hidden="true">
        <path
          d={c.shape}
          fill={c.hollow ? 'none' : 'currentColor'}
          stroke="currentColor"
          strokeWidth={c.hollow ? 1.8 : 0}
          fillRule="evenodd"
        />
        {condition === 'due' && <path d="M8 2a6 6 0 100 12z" fill="currentColor" />}
      </svg>
      {unread ? 'not read yet' : condition}
    </Box>
  )
}
