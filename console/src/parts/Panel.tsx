import Box from '@mui/material/Box'
import Paper from '@mui/material/Paper'
import Typography from '@mui/material/Typography'
import type { ReactNode } from 'react'

/** Panel is a titled part of a page. */
export function Panel({ title, action, children }: { title: string; action?: ReactNode; children: ReactNode }) {
  return (
    <Paper component="section" aria-label={title} sx={{ p: 2, minWidth: 0 }}>
      <Box sx={{ display: 'flex', justifyContent: 'space-between', alignItems: 'center', gap: 1, mb: 1.5 }}>
        <Typography variant="h2">{title}</Typography>
        {action}
      </Box>
      {children}
    </Paper>
  )
}

/** Facts is a list of what is known, name by name. */
export function Facts({ rows }: { rows: [string, ReactNode][] }) {
  return (
    <Box component="dl" sx={{ m: 0, display: 'grid', gridTemplateColumns: 'max-content minmax(0, 1fr)', columnGap: 2, rowGap: 0.5 }}>
      {rows.map(([name, value]) => (
        <Box key={name} sx={{ display: 'contents' }}>
          <Box component="dt" sx={{ color: 'text.secondary' }}>
            {name}
          </Box>
          <Box component="dd" sx={{ m: 0, overflowWrap: 'anywhere' }}>
            {value}
          </Box>
        </Box>
      ))}
    </Box>
  )
}
