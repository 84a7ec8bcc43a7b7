import Box from '@mui/material/Box'
import Dialog from '@mui/material/Dialog'
import Typography from '@mui/material/Typography'
import visuallyHidden from '@mui/utils/visuallyHidden'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { Command } from 'cmdk'
import { useEffect, useState } from 'react'
import { useNavigate } from 'react-router'
import { api, take, type Schemas } from '../api/client'
import { keys } from '../api/keys'
import { Foreign } from '../parts/Foreign'
import { devicePath, number } from '../parts/words'

type Hit = Schemas['Hit']
type Place = { to: string; title: string; about: string; kind: string }

const pages: Place[] = (
  [
    ['/', 'Overview'],
    ['/slots', 'Slots'],
    ['/devices', 'Devices'],
    ['/replacements', 'Replacements'],
    ['/tasks', 'Tasks'],
    ['/desk', 'Desk'],
    ['/ahead', 'Forecast'],
    ['/calendar', 'Calendar'],
    ['/discovery', 'Discovery'],
    ['/notices', 'Notices'],
    ['/families', 'Families'],
    ['/audit', 'Audit log'],
    ['/settings', 'Settings'],
  ] as const
).map(([to, title]) => ({ to, title, about: '', kind: 'page' }))

/** placeOf is the page of a hit. */
export function placeOf(h: Hit): string {
  const [device = '', slot = ''] = h.name.split('/')
  switch (h.kind) {
    case 'slot':
      return `/slots/${encodeURIComponent(device)}/${encodeURIComponent(slot)}`
    case 'device':
      return devicePath(h.name)
    case 'replacement':
      return `/replacements/${encodeURIComponent(h.name)}`
    default:
      return `/slots?${h.kind}=${encodeURIComponent(h.name)}`
  }
}

/** Palette searches everything as it is typed; arrows choose, Enter opens. */
export function Palette({ close }: { close: () => void }) {
  const [text, setText] = useState('')
  const [wanted, setWanted] = useState('')
  const [at, setAt] = useState('')
  const navigate = useNavigate()
  useEffect(() => {
    const pause = window.setTimeout(() => setWanted(text.trim()), 150)
    return () => window.clearTimeout(pause)
  }, [text])
  const found = useQuery({
    queryKey: [...keys.search, wanted],
    queryFn: () => take(api.GET('/api/v1/search', { params: { query: { text: wanted } } })),
    enabled: wanted.length > 1,
    placeholderData: keepPreviousData,
  })
  const hits = wanted.length > 1 ? (found.data?.hits ?? []) : []
  const places: Place[] = [
    ...pages.filter((p) => p.title.toLowerCase().includes(text.trim().toLowerCase())).slice(0, text ? 3 : 9),
    ...hits.map((h) => ({ to: placeOf(h), title: h.name, about: h.about, kind: h.kind })),
    ...(found.data && wanted.length > 1 && found.data.slots > 0
      ? [
          {
            to: `/slots?text=${encodeURIComponent(wanted)}`,
            title: `All slots that fit: ${number(found.data.slots)}`,
            about: '',
            kind: 'list',
          },
        ]
      : []),
  ]
  const first = places[0] ? keyOf(places[0]) : ''
  const open = (p: Place) => {
    close()
    void navigate(p.to)
  }
  return (
    <Dialog
      open
      onClose={close}
      fullWidth
      maxWidth="sm"
      slotProps={{ paper: { 'aria-label': 'Search', 'aria-labelledby': undefined } }}
      sx={{ '& .MuiDialog-container': { alignItems: 'start' } }}
    >
      <Box
        component={Command}
        shouldFilter={false}
        loop
        value={places.some((p) => keyOf(p) === at) ? at : first}
        onValueChange={setAt}
        label="Search everything"
        sx={looks}
      >
        <Command.Input
          autoFocus
          aria-label="Search everything"
          value={text}
          onValueChange={setText}
          placeholder="Name, address, serial number, fingerprint, subject, owner, tag or note"
        />
        <Command.List label="Hits">
          {places.map((p) => (
            <Command.Item key={keyOf(p)} value={keyOf(p)} onSelect={() => open(p)}>
              <Box component="span" sx={{ width: 86, flexShrink: 0 }}>
                {p.kind}
              </Box>
              <Box component="span" sx={{ minWidth: 0 }}>
                <Foreign strong>{p.title}</Foreign> <Foreign>{p.about}</Foreign>
              </Box>
            </Command.Item>
          ))}
        </Command.List>
      </Box>
      {wanted.length > 1 && found.data?.hits.length === 0 && (
        <Typography role="status" sx={{ px: 2, py: 1.5, color: 'text.secondary' }}>
          Nothing fits “{wanted}”.
        </Typography>
      )}
    </Dialog>
  )
}

const keyOf = (p: Place) => p.kind + p.to

const looks = {
  '& [cmdk-label]': visuallyHidden,
  '& [cmdk-input]': {
    width: '100%',
    font: 'inherit',
    color: 'inherit',
    bgcolor: 'transparent',
    border: 0,
    outline: 'none',
    px: 2,
    py: 1.5,
    borderBottom: 1,
    borderColor: 'divider',
    '&::placeholder': { color: 'text.secondary', opacity: 1 },
  },
  '& [cmdk-list]': { maxHeight: 440, overflow: 'auto', py: 0.5 },
  '& [cmdk-item]': { px: 2, py: 0.75, cursor: 'pointer', display: 'flex', gap: 1.5, alignItems: 'baseline' },
  '& [cmdk-item][data-selected=true]': { bgcolor: 'action.selected' },
} as const
