import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import { Link as RouterLink } from 'react-router'
import type { Schemas } from '../../api/client'
import { Quiet } from '../../parts/Panel'
import { day, some } from '../../parts/words'

const shown = 30

/** HeatMap draws how many certificates end at each site in each of the next weeks; the numbers stand in the cells. */
export function HeatMap({ of }: { of: Schemas['Expiries'] }) {
  const most = Math.max(1, ...of.sites.flatMap((s) => s.weeks))
  if (of.sites.length === 0) return <Quiet>No certificate expires in the next half year.</Quiet>
  return (
    <Box sx={{ overflowX: 'auto' }} tabIndex={0} role="region" aria-label="Certificates that expire, by site and week">
      <Box
        component="table"
        sx={{
          borderCollapse: 'separate',
          borderSpacing: '2px',
          fontSize: 12,
          '& th': { fontWeight: 600, textAlign: 'left', whiteSpace: 'nowrap' },
        }}
      >
        <thead>
          <tr>
            <Box component="th" scope="col" sx={{ pr: 1 }}>
              Site
            </Box>
            <th scope="col">Ended</th>
            {of.weeks.map((w, i) => (
              <Box
                component="th"
                scope="col"
                key={w}
                sx={{ color: 'text.secondary', fontWeight: '400 !important', minWidth: 26 }}
              >
                {i % 2 === 0 ? w.slice(5, 10) : ''}
                <Box component="span" sx={{ position: 'absolute', left: -9999 }}>
                  {i % 2 === 0 ? '' : w.slice(5, 10)}
                </Box>
              </Box>
            ))}
          </tr>
        </thead>
        <tbody>
          {of.sites.slice(0, shown).map((s) => (
            <tr key={s.site}>
              <Box component="th" scope="row" sx={{ pr: 1 }}>
                <Link component={RouterLink} to={`/slots?site=${encodeURIComponent(s.site)}&sort=expires_at`}>
                  <bdi>{s.site || 'no site'}</bdi>
                </Link>
              </Box>
              <Cell
                n={s.ended}
                share={s.ended ? 1 : 0}
                tone="error.main"
                what={`${s.site}: ${some(s.ended, 'slot')} ended`}
              />
              {s.weeks.map((n, i) => (
                <Cell
                  key={of.weeks[i]}
                  n={n}
                  share={n / most}
                  tone="primary.main"
                  what={`${s.site}, week of ${day(of.weeks[i])}: ${some(n, 'slot')}`}
                />
              ))}
            </tr>
          ))}
        </tbody>
      </Box>
      {of.sites.length > shown && <Quiet>and {some(of.sites.length - shown, 'site')} more</Quiet>}
    </Box>
  )
}

/** Cell is darker the more it holds; above the middle its number is light. */
function Cell({ n, share, tone, what }: { n: number; share: number; tone: string; what: string }) {
  const level = n === 0 ? 0 : Math.max(0.15, share)
  return (
    <Box
      component="td"
      title={n ? what : undefined}
      sx={{
        position: 'relative',
        height: 24,
        minWidth: 26,
        p: 0,
        textAlign: 'center',
        border: 1,
        borderColor: 'divider',
        borderRadius: '3px',
        overflow: 'hidden',
      }}
    >
      <Box aria-hidden sx={{ position: 'absolute', inset: 0, bgcolor: tone, opacity: level }} />
      <Box
        component="span"
        sx={{ position: 'relative', fontWeight: 600, color: level > 0.55 ? 'background.paper' : 'text.primary' }}
      >
        {n || ''}
      </Box>
    </Box>
  )
}
