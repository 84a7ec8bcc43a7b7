import Box from '@mui/material/Box'
import Paper from '@mui/material/Paper'
import Typography from '@mui/material/Typography'
import type { ReactNode } from 'react'
import type { TermName } from './Explanation'
import { Term } from './Term'

/** Panel is a titled part of a page. */
export function Panel({
  title,
  term,
  action,
  children,
}: {
  title: string
  term?: TermName
  action?: ReactNode
  children: ReactNode
}) {
  return (
    <Paper component="section" aria-label={title} sx={{ p: 2, minWidth: 0 }}>
      <Box
        sx={{
          display: 'flex',
          flexWrap: 'wrap',
          justifyContent: 'space-between',
          alignItems: 'center',
          gap: 1,
          mb: 1.5,
        }}
      >
        <Box sx={{ display: 'flex', alignItems: 'center' }}>
          <Typography variant="h2">{title}</Typography>
          {term && <Term of={term} />}
        </Box>
        {action}
      </Box>
      {children}
    </Paper>
  )
}

export type Fact = [name: ReactNode, value: ReactNode]

/** Facts is a list of what is known, name by name. */
export function Facts({ rows }: { rows: Fact[] }) {
  return (
    <Box
      component="dl"
      sx={{ m: 0, display: 'grid', gridTemplateColumns: 'fit-content(40%) minmax(0, 1fr)', columnGap: 2, rowGap: 0.5 }}
    >
      {rows.map(([name, value], i) => (
        <Box key={i} sx={{ display: 'contents' }}>
          <Box component="dt" sx={{ color: 'text.secondary', overflowWrap: 'anywhere' }}>
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

/** Columns lays two parts of a page beside each other where there is room. */
export function Columns({ children, even }: { children: ReactNode; even?: boolean }) {
  return (
    <Box
      sx={{
        display: 'grid',
        gap: 2,
        gridTemplateColumns: {
          xs: 'minmax(0, 1fr)',
          md: even ? 'repeat(2, minmax(0, 1fr))' : 'minmax(0, 3fr) minmax(0, 2fr)',
        },
        alignItems: 'start',
      }}
    >
      {children}
    </Box>
  )
}

/** Stack lays the parts of a page one below the other. */
export function Stack({ children }: { children: ReactNode }) {
  return <Box sx={{ display: 'grid', gap: 2, gridTemplateColumns: 'minmax(0, 1fr)' }}>{children}</Box>
}

/** Row is one line of a list within a panel. */
export function Row({ children, label }: { children: ReactNode; label?: string }) {
  return (
    <Box
      role={label ? 'group' : undefined}
      aria-label={label}
      sx={{
        display: 'flex',
        flexWrap: 'wrap',
        columnGap: 2,
        rowGap: 0.5,
        py: 1,
        alignItems: 'baseline',
        borderBottom: 1,
        borderColor: 'divider',
        '&:last-child': { border: 0 },
      }}
    >
      {children}
    </Box>
  )
}

/** Quiet is text that stands back. */
export function Quiet({ children, grow }: { children: ReactNode; grow?: boolean }) {
  return (
    <Typography
      component="div"
      sx={{
        color: 'text.secondary',
        minWidth: 0,
        overflowWrap: 'anywhere',
        ...(grow && { flexGrow: 1, flexBasis: 200 }),
      }}
    >
      {children}
    </Typography>
  )
}

/** Grid lays the fields of a form beside each other where there is room. */
export function FieldGrid({ children, columns = 2 }: { children: ReactNode; columns?: number }) {
  return (
    <Box
      sx={{
        display: 'grid',
        gap: 2,
        gridTemplateColumns: {
          xs: 'minmax(0, 1fr)',
          sm: `repeat(${Math.min(columns, 2)}, minmax(0, 1fr))`,
          md: `repeat(${columns}, minmax(0, 1fr))`,
        },
      }}
    >
      {children}
    </Box>
  )
}
