import Box from '@mui/material/Box'
import Chip from '@mui/material/Chip'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { useQuery } from '@tanstack/react-query'
import type { Schemas } from '../../api/client'
import { facetsQuery } from '../../api/queries'
import type { Filter } from '../../api/lists'
import { month } from '../words'

type Facet = keyof Schemas['Facets']

const facets: Record<string, { label: string; of: Facet }> = {
  site: { label: 'Site', of: 'sites' },
  family: { label: 'Family', of: 'families' },
  tag: { label: 'Tag', of: 'tags' },
  owner: { label: 'Owner', of: 'owners' },
  signer: { label: 'Signer', of: 'signers' },
}

const others: Record<string, { label: string; say: (value: string) => string }> = {
  ends: { label: 'Expires', say: (v) => (v === 'ended' ? 'expired already' : `in ${month(v)}`) },
  serves: { label: 'Uses certificate', say: (v) => `${v.slice(0, 16)}…` },
  cluster: { label: 'Cluster', say: (v) => v },
}

/**
 * Filters narrows a list by what its rows have in common; what narrows it otherwise stands beside, and can be taken
 * away.
 */
export function Filters({ filter, set, by }: { filter: Filter; set: (change: Filter) => void; by: string[] }) {
  const known = useQuery(facetsQuery).data
  const active = Object.keys(others).filter((name) => filter[name])
  return (
    <Box
      role="group"
      aria-label="Filters"
      className="no-print"
      sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, alignItems: 'center' }}
    >
      {by.map((name) => {
        const f = facets[name]
        if (!f) return null
        const values = known?.[f.of] ?? []
        const value = filter[name] ?? ''
        if (values.length === 0 && !value) return null
        return (
          <TextField
            key={name}
            id={`filter-${name}`}
            select
            size="small"
            label={f.label}
            value={value}
            onChange={(e) => set({ [name]: e.target.value })}
            sx={{ minWidth: 130, maxWidth: 220 }}
          >
            <MenuItem value="">any</MenuItem>
            {name === 'family' && <MenuItem value="-">none (monitored only)</MenuItem>}
            {!values.some((v) => v.value === value) && value && value !== '-' && (
              <MenuItem value={value}>{value}</MenuItem>
            )}
            {values.map((v) => (
              <MenuItem key={v.value} value={v.value}>
                <bdi>{v.value}</bdi>&nbsp;({v.count})
              </MenuItem>
            ))}
          </TextField>
        )
      })}
      {active.map((name) => (
        <Chip
          key={name}
          label={`${others[name]?.label} ${others[name]?.say(filter[name] ?? '')}`}
          onDelete={() => set({ [name]: '' })}
        />
      ))}
    </Box>
  )
}
