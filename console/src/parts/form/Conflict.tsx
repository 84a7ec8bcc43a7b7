import Alert from '@mui/material/Alert'
import AlertTitle from '@mui/material/AlertTitle'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import FormControlLabel from '@mui/material/FormControlLabel'
import Radio from '@mui/material/Radio'
import RadioGroup from '@mui/material/RadioGroup'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import { differing } from './errors'

/** Guard looks at a thing again when it was changed meanwhile, and names its fields. */
export type Guard<T> = { look: () => Promise<T>; labels: Partial<Record<keyof T, string>> }

type Props<T> = { labels: Guard<T>['labels']; base: T; theirs: T; mine: T; take: (merged: Partial<T>) => void }

/** Conflict shows what somebody else changed since a form was opened, and lets the user take either. */
export function Conflict<T extends object>({ labels, base, theirs, mine, take }: Props<T>) {
  const [picked, setPicked] = useState<Record<string, 'theirs' | 'mine'>>({})
  const changed = differing(base, theirs)
  const typed = differing(base, mine)
  const both = changed.filter((n) => typed.includes(n) && differing({ v: theirs[n] }, { v: mine[n] }).length > 0)
  const merged = () =>
    Object.fromEntries(
      typed.filter((n) => !both.includes(n) || picked[n] === 'mine').map((n) => [n, mine[n]]),
    ) as Partial<T>
  return (
    <Alert severity="warning" variant="outlined" sx={{ mt: 2 }}>
      <AlertTitle>Somebody else changed it since you opened it</AlertTitle>
      {changed.length === 0 && <Typography>No field shown here differs.</Typography>}
      {changed
        .filter((n) => !both.includes(n))
        .map((n) => (
          <Typography key={n}>
            {labels[n] ?? n}: now <strong>{text(theirs[n])}</strong>, was {text(base[n])}
          </Typography>
        ))}
      {both.map((n) => (
        <Box key={n} component="fieldset" sx={{ border: 0, p: 0, m: 0, mt: 1 }}>
          <Typography component="legend" sx={{ fontWeight: 600 }}>
            {labels[n] ?? n}
          </Typography>
          <RadioGroup
            value={picked[n] ?? 'theirs'}
            onChange={(_, v) => setPicked({ ...picked, [n]: v as 'theirs' | 'mine' })}
          >
            <FormControlLabel value="theirs" control={<Radio size="small" />} label={`theirs: ${text(theirs[n])}`} />
            <FormControlLabel value="mine" control={<Radio size="small" />} label={`yours: ${text(mine[n])}`} />
          </RadioGroup>
        </Box>
      ))}
      <Button sx={{ mt: 1 }} variant="outlined" color="inherit" onClick={() => take(merged())}>
        Go on with this
      </Button>
    </Alert>
  )
}

function text(value: unknown) {
  const said = Array.isArray(value)
    ? value.join(' ')
    : typeof value === 'string'
      ? value
      : value === undefined
        ? ''
        : JSON.stringify(value)
  return said || 'empty'
}
