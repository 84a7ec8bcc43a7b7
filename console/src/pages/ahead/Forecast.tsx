import Box from '@mui/material/Box'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import Switch from '@mui/material/Switch'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import type { Schemas } from '../../api/client'
import { facetsQuery, forecastQuery } from '../../api/queries'
import { Bars } from '../../parts/Bars'
import { Loaded } from '../../parts/Loaded'
import { Panel, Quiet } from '../../parts/Panel'
import { day, month, some } from '../../parts/words'

type Hands = Schemas['Hands']
const total = (h: Hands) => h.automatic + h.guided + h.outside
const tones = { automatic: 'primary.main', guided: 'warning.main', outside: 'seal' } as const
const hands = Object.keys(tones) as (keyof typeof tones)[]
const meant = {
  automatic: 'a procedure does all of it',
  guided: 'a person does some of its steps',
  outside: 'no procedure: done elsewhere',
}
const perBar = 4 // weeks

type Bar = { begins: string; today: Hands; coming: Hands }

/** bars joins weeks, four to a bar, so that two years fit beside each other. */
function bars(weeks: Schemas['ForecastWeek'][]): Bar[] {
  const sum = (a: Hands, b: Hands): Hands => ({
    automatic: a.automatic + b.automatic,
    guided: a.guided + b.guided,
    outside: a.outside + b.outside,
  })
  const out: Bar[] = []
  weeks.forEach((w, i) => {
    const last = out.at(-1)
    if (i % perBar === 0 || !last) out.push({ begins: w.begins, today: w.today, coming: w.coming })
    else
      out[out.length - 1] = { begins: last.begins, today: sum(last.today, w.today), coming: sum(last.coming, w.coming) }
  })
  return out
}

/** Forecast draws the replacements that are to come, and says how many people they need. */
export function Forecast() {
  const [weeks, setWeeks] = useState('104')
  const [site, setSite] = useState('')
  const [everything, setEverything] = useState(false)
  const facets = useQuery(facetsQuery)
  const forecast = useQuery(forecastQuery({ weeks, site, public: everything ? 'true' : 'false' }))
  return (
    <Panel
      title="Forecast"
      action={
        <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5, alignItems: 'center' }}>
          <FormControlLabel
            control={<Switch size="small" checked={everything} onChange={(e) => setEverything(e.target.checked)} />}
            label="Count all as publicly trusted"
          />
          <TextField
            select
            size="small"
            label="Site"
            id="forecast-site"
            value={site}
            onChange={(e) => setSite(e.target.value)}
            sx={{ minWidth: 130 }}
            slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
          >
            <MenuItem value="">everywhere</MenuItem>
            {(facets.data?.sites ?? [])
              .filter((s) => s.value)
              .map((s) => (
                <MenuItem key={s.value} value={s.value}>
                  {s.value}
                </MenuItem>
              ))}
          </TextField>
          <TextField
            select
            size="small"
            label="Period"
            id="forecast-weeks"
            value={weeks}
            onChange={(e) => setWeeks(e.target.value)}
          >
            <MenuItem value="52">one year</MenuItem>
            <MenuItem value="104">two years</MenuItem>
            <MenuItem value="208">four years</MenuItem>
          </TextField>
        </Box>
      }
    >
      <Loaded query={forecast} height={320}>
        {(f) => <Drawn f={f} />}
      </Loaded>
    </Panel>
  )
}

function Drawn({ f }: { f: Schemas['Forecast'] }) {
  const all = bars(f.weeks)
  const took = f.took.find((t) => t.hand === 'guided')
  return (
    <>
      <Bars
        about="Replacements to come, four weeks to a bar"
        labels={all.map((b) => `${month(b.begins.slice(0, 7)).slice(0, 3)} ’${b.begins.slice(2, 4)}`)}
        titles={all.map((b) => `four weeks from ${day(b.begins)}`)}
        layers={hands.map((hand) => ({
          name: hand,
          color: tones[hand],
          values: all.map((b) => b.coming[hand]),
        }))}
        piece={(i, l) => {
          const hand = hands[l] ?? 'automatic'
          const b = all[i]
          return { says: `four weeks from ${day(b?.begins)}: ${some(b?.coming[hand] ?? 0, 'replacement')}, ${hand}` }
        }}
        line={{ name: 'as today', values: all.map((b) => total(b.today)) }}
        height={220}
      />
      <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 2, my: 1, color: 'text.secondary' }}>
        {hands.map((hand) => (
          <Box key={hand} component="span" sx={{ display: 'inline-flex', alignItems: 'center', gap: 0.75 }}>
            <Box aria-hidden sx={{ width: 12, height: 12, bgcolor: tones[hand], borderRadius: '2px' }} />
            {hand}: {meant[hand]}
          </Box>
        ))}
        <span>dotted: if certificates live as long as today</span>
      </Box>
      <Box sx={{ overflowX: 'auto' }} tabIndex={0} role="region" aria-label="Replacements by year">
        <Table size="small">
          <TableHead>
            <TableRow>
              {[
                'Year',
                'Weeks',
                'As today',
                'Coming',
                'Automatic',
                'Guided',
                'Outside',
                'Hours of people a week',
                'People, with 20 hours a week',
              ].map((h) => (
                <TableCell key={h}>{h}</TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody>
            {f.years.map((y) => (
              <TableRow key={y.year}>
                {[
                  y.year,
                  y.weeks,
                  total(y.today),
                  total(y.coming),
                  y.coming.automatic,
                  y.coming.guided,
                  y.coming.outside,
                  y.hours_a_week_coming,
                  y.people_coming,
                ].map((cell, i) => (
                  <TableCell key={i}>{cell}</TableCell>
                ))}
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </Box>
      <Quiet>
        {some(f.slots, 'certificate')}. Publicly trusted ones may live{' '}
        {f.rules
          .slice()
          .reverse()
          .map((r) => (r.from > '1970' ? `${r.days} days from ${day(r.from)}` : `${r.days} days so far`))
          .join(', ')}
        .{' '}
        {took
          ? `A guided replacement took a person ${took.median_person_minutes} minutes (median of ${took.count}).`
          : 'None was done by hand yet: half an hour is counted for each.'}
      </Quiet>
    </>
  )
}
