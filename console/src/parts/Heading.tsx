import Box from '@mui/material/Box'
import Typography from '@mui/material/Typography'
import { useEffect, type ReactNode } from 'react'

/** useTitle names the browser's tab. */
export function useTitle(title: string) {
  useEffect(() => {
    document.title = title ? `${title} · Fresh Seal` : 'Fresh Seal'
  }, [title])
}

/** Heading is the head of a page: its name, which the tab has too, what stands below it, and what can be done. */
export function Heading({
  title,
  tab,
  below,
  term,
  children,
}: {
  title: ReactNode
  tab: string
  below?: ReactNode
  term?: ReactNode
  children?: ReactNode
}) {
  useTitle(tab)
  return (
    <Box
      sx={{
        display: 'flex',
        flexWrap: 'wrap',
        columnGap: 2,
        rowGap: 1,
        alignItems: 'center',
        justifyContent: 'space-between',
      }}
    >
      <Box sx={{ minWidth: 0 }}>
        <Box sx={{ display: 'flex', alignItems: 'center' }}>
          <Typography variant="h1" tabIndex={-1} sx={{ overflowWrap: 'anywhere', outline: 'none' }}>
            {title}
          </Typography>
          {term}
        </Box>
        {below}
      </Box>
      {children && (
        <Box className="no-print" sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, alignItems: 'center' }}>
          {children}
        </Box>
      )}
    </Box>
  )
}
