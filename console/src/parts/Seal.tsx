import { useTheme } from '@mui/material/styles'

/** Seal is the mark of Fresh Seal. */
export function Seal({ size }: { size: number }) {
  const theme = useTheme()
  return (
    <svg viewBox="0 0 32 32" width={size} height={size} aria-hidden="true">
      <path
        fill={theme.vars?.palette.seal ?? theme.palette.seal}
        d="M16 1l3 3 4-1.5 1.7 4 4.3.5-.2 4.300L32 14l-2 3.8 1.6 4-3.9 1.9-.7 4.2-4.3-.2L19.5 31 16 28.5 12.5 31l-3.2-3.3-4.3.2-.7-4.200L.4 21.800l1.6-4L0 14l3.2-2.700L3 7l4.3-.5L9 2.5 13 4z"
      />
      <path fill="none" stroke="#fbfaf6" strokeWidth="2.6" strokeLinecap="round" strokeLinejoin="round" d="M10 16.500l4.2 4.2 8-9" />
    </svg>
  )
}
