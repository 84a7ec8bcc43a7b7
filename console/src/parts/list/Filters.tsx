import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Chip from '@mui/material/Chip'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { useQuery } from '@tanstack/react-query'
import type { Schemas } from '../../api/client'
import { facetsQuery } from '../../api/queries'
import type { Filter } from '../../api/lists'
import { useState } from 'react'
import { month } from '../words'

type Facet = keyof Schemas['Facets']

const facets: Record<string, { label: string; of: Facet }> = {
  site: { label: 'Site', of: 'sites' },
  family: { label: 'Family', of: 'families' },
  tag: { label: 'Tag', of: 'tags' },
  owner: { label: 'Owner', of: 'owners' },
  signer: { label: 'Signer', of: 'signers' },
  issuer: { label: 'Issuer', of: 'issuers' },
  key_type: { label: 'Key', of: 'key_types' },
  signature: { label: 'Signature', of: 'signatures' },
}

const others: Record<string, { label: string; say: (value: string) => string }> = {
  ends: { label: 'Expires', say: (v) => (v === 'ended' ? 'expired already' : `in ${month(v)}`) },
  serves: { label: 'Uses certificate', say: (v) => `${v.slice(0, 16)}…` },
  parcel: { label: 'Parcel', say: (v) => (v === '-' ? 'none' : v) },
  cluster: { label: 'Cluster', say: (v) => v },
}

/**
 * Filters narrows a list by what its rows have in common; what narrows it otherwise stands beside, and can be taken
 * away.
 */
export function Filters({
  filter,
  set,
  by,
  more = [],
}: {
  filter: Filter
  set: (change: Filter) => void
  by: string[]
  more?: string[] // hidden until they are asked for, or used
}) {
  const known = useQuery(facetsQuery).data
  const [all, setAll] = useState(() => more.some((name) => filter[name]))
  const active = Object.keys(others).filter((name) => filter[name])
  return (
    <Box
      role="group"
      aria-label="Filters"
      className="no-print"
      sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, alignItems: 'center', minHeight: by.length > 1 ? 37 : 0 }}
    >
      {[...by, ...(all ? more : [])].map((name) => {
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
      {more.length > 0 && !all && (
        <Button size="small" color="inherit" onClick={() => setAll(true)}>
          More filters
        </Button>
      )}
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
