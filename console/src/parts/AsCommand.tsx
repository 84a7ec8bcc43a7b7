import Box from '@mui/material/Box'
import { mono } from '../app/theme'
import { Foreign } from './Foreign'
import { Copy } from './Print'

/** AsCommand shows the command that does the same as a button, which is named where it is not beside it. */
export function AsCommand({ command, what }: { command: string; what?: string }) {
  if (!command) return null // nothing can be said as a command
  return (
    <Box
      component="details"
      className="no-print"
      sx={{
        mt: 1.5,
        flexBasis: '100%',
        fontSize: 13,
        '& summary': { cursor: 'pointer', width: 'fit-content', lineHeight: '28px' },
      }}
    >
      <summary>{what ? `${what}, as a command` : 'As a command'}</summary>
      <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 1 }}>
        <Box component="code" sx={{ fontFamily: mono, fontSize: 12, overflowWrap: 'anywhere' }}>
          <Foreign>{command}</Foreign>
        </Box>
        <Copy text={command} what="the command" />
      </Box>
    </Box>
  )
}
