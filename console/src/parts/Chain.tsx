import Box from '@mui/material/Box'
import MuiLink from '@mui/material/Link'
import Typography from '@mui/material/Typography'
import { Link as RouterLink } from 'react-router'
import type { Link } from '../api/client'
import { Foreign } from './Foreign'
import { Print } from './Print'
import { Whole } from './Whole'
import { day } from './words'

const roles: Record<Link['role'], string> = {
  leaf: 'leaf',
  intermediate: 'intermediate',
  anchor: 'anchor, trusted by the fleet',
  root: 'root, not trusted by the fleet',
  surplus: 'served, part of no chain',
}

/** Chain draws a chain as it hangs: leaf first, each held by the one below it, the anchor at the end. */
export function Chain({ links, incomplete }: { links: Link[]; incomplete?: string }) {
  return (
    <Box component="ol" aria-label="Chain of certificates" sx={{ listStyle: 'none', m: 0, p: 0 }}>
      {links.map((link, i) => (
        <Box component="li" key={link.sha256} sx={{ display: 'flex', gap: 1.5 }}>
          <Rail link={link} last={i === links.length - 1 && !incomplete} />
          <Box sx={{ pb: 2, minWidth: 0, flexGrow: 1 }}>
            <Box sx={{ display: 'flex', gap: 1, flexWrap: 'wrap', alignItems: 'baseline' }}>
              <Typography component="span" sx={{ fontWeight: 650, overflowWrap: 'anywhere' }}>
                <Foreign>{link.name}</Foreign>
              </Typography>
              <Typography
                component="span"
                variant="body2"
                sx={{ color: link.role === 'root' ? 'error.main' : 'text.secondary' }}
              >
                {roles[link.role]}
                {!link.served && link.role === 'intermediate' && ' — not served'}
              </Typography>
            </Box>
            <Typography sx={{ color: 'text.secondary' }} variant="body2">
              {day(link.not_before)} to {day(link.not_after)} · {link.key} · {link.signature}
            </Typography>
            <Box sx={{ color: 'text.secondary' }}>
              <Print text={link.sha256} what={`the SHA-256 of ${link.role}`} />
              {link.role !== 'leaf' && (
                <MuiLink
                  component={RouterLink}
                  to={`/slots?serves=${link.sha256}`}
                  className="no-print"
                  sx={{ fontSize: 12, ml: 1, display: 'inline-block', lineHeight: '24px' }}
                >
                  slots that use it
                </MuiLink>
              )}
            </Box>
            <Whole link={link} />
          </Box>
        </Box>
      ))}
      {incomplete && (
        <Box component="li" sx={{ display: 'flex', gap: 1.5, color: 'error.main' }}>
          <Box sx={{ width: 16, display: 'flex', justifyContent: 'center', pt: 0.5 }}>
            <Box sx={{ width: 14, height: 14, border: '2px dashed', borderRadius: '50%' }} />
          </Box>
          <Typography variant="body2" sx={{ fontWeight: 600 }}>
            <Foreign>{incomplete}</Foreign>
          </Typography>
        </Box>
      )}
    </Box>
  )
}

function Rail({ link, last }: { link: Link; last: boolean }) {
  const end = link.role === 'anchor' || link.role === 'root'
  const tone = link.role === 'root' || (link.role === 'intermediate' && !link.served) ? 'error.main' : 'primary.main'
  return (
    <Box aria-hidden="true" sx={{ width: 16, display: 'flex', flexDirection: 'column', alignItems: 'center', pt: 0.5 }}>
      <Box
        sx={{
          width: 14,
          height: 14,
          flexShrink: 0,
          border: '2px solid',
          borderColor: tone,
          borderRadius: end ? 0.5 : '50%',
          bgcolor: link.served || link.role === 'anchor' ? tone : 'transparent',
        }}
      />
      {!last && <Box sx={{ width: 2, flexGrow: 1, bgcolor: 'line' }} />}
    </Box>
  )
}
