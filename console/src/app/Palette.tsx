import Box from '@mui/material/Box'
import Dialog from '@mui/material/Dialog'
import InputBase from '@mui/material/InputBase'
import Typography from '@mui/material/Typography'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useEffect, useState, type KeyboardEvent } from 'react'
import { useNavigate } from 'react-router'
import { api, take, type Schemas } from '../api/client'
import { keys } from '../api/keys'
import { Foreign } from '../parts/Foreign'
import { count } from '../parts/list/paging'
import { devicePath } from '../parts/words'

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
  const [sought, setSought] = useState('')
  const [at, setAt] = useState(0)
  const navigate = useNavigate()
  useEffect(() => {
    const pause = window.setTimeout(() => setSought(text.trim()), 150)
    return () => window.clearTimeout(pause)
  }, [text])
  const found = useQuery({
    queryKey: [...keys.search, sought],
    queryFn: () => take(api.GET('/api/v1/search', { params: { query: { text: sought } } })),
    enabled: sought.length > 1,
    placeholderData: keepPreviousData,
  })
  const hits = sought.length > 1 ? (found.data?.hits ?? []) : []
  const places: Place[] = [
    ...pages.filter((p) => p.title.toLowerCase().includes(text.trim().toLowerCase())).slice(0, text ? 3 : 9),
    ...hits.map((h) => ({ to: placeOf(h), title: h.name, about: h.about, kind: h.kind })),
    ...(found.data && sought.length > 1 && found.data.slots > 0
      ? [{ to: `/slots?text=${encodeURIComponent(sought)}`, title: `All slots that fit: ${count(found.data.slots)}`, about: '', kind: 'list' }]
      : []),
  ]
  const now = Math.min(at, places.length - 1)
  const open = (p: Place | undefined) => {
    if (!p) return
    close()
    void navigate(p.to)
  }
  const onKey = (e: KeyboardEvent) => {
    if (e.key === 'ArrowDown' || e.key === 'ArrowUp') {
      e.preventDefault()
      setAt((now + (e.key === 'ArrowDown' ? 1 : -1) + places.length) % Math.max(places.length, 1))
    } else if (e.key === 'Enter') {
      e.preventDefault()
      open(places[now])
    }
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
      <InputBase
        autoFocus
        fullWidth
        value={text}
        onChange={(e) => {
          setText(e.target.value)
          setAt(0)
        }}
        onKeyDown={onKey}
        placeholder="Name, address, serial number, fingerprint, subject, owner, tag or note"
        slotProps={{
          input: {
            'aria-label': 'Search everything',
            role: 'combobox',
            'aria-expanded': places.length > 0,
            'aria-controls': 'hits',
            'aria-activedescendant': places.length ? `hit-${now}` : undefined,
            spellCheck: false,
          },
        }}
        sx={{ px: 2, py: 1.5, borderBottom: 1, borderColor: 'divider', '& input::placeholder': { color: 'text.secondary', opacity: 1 } }}
      />
      <Box id="hits" role="listbox" aria-label="Hits" sx={{ maxHeight: 440, overflow: 'auto', py: 0.5 }}>
        {places.map((p, i) => (
          <Box
            key={p.kind + p.to}
            id={`hit-${i}`}
            role="option"
            aria-selected={i === now}
            tabIndex={-1}
            ref={(el: HTMLElement | null) => {
              if (i === now) el?.scrollIntoView({ block: 'nearest' })
            }}
            onClick={() => open(p)}
            onKeyDown={(e) => e.key === 'Enter' && open(p)}
            sx={{
              px: 2,
              py: 0.75,
              cursor: 'pointer',
              display: 'flex',
              gap: 1.5,
              alignItems: 'baseline',
              bgcolor: i === now ? 'action.selected' : undefined,
              '&:hover': { bgcolor: 'action.hover' },
            }}
          >
            <Box component="span" sx={{ width: 86, flexShrink: 0 }}>
              {p.kind}
            </Box>
            <Box component="span" sx={{ minWidth: 0 }}>
              <Foreign strong>{p.title}</Foreign> <Foreign>{p.about}</Foreign>
            </Box>
          </Box>
        ))}
      </Box>
      {sought.length > 1 && found.data?.hits.length === 0 && (
        <Typography role="status" sx={{ px: 2, py: 1.5, color: 'text.secondary' }}>
          Nothing fits “{sought}”.
        </Typography>
      )}
    </Dialog>
  )
}
