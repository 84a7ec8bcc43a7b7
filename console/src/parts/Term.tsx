import Box from '@mui/material/Box'
import { Suspense, lazy, useState } from 'react'
import { spare } from '../api/chunk'
import type { TermName } from './Explanation'

const Explanation = lazy(async () => ({
  default: await spare(async () => (await import('./Explanation')).Explanation),
}))

/** Term explains a word beside it. */
export function Term({ of }: { of: TermName }) {
  const [at, setAt] = useState<HTMLElement | null>(null)
  return (
    <>
      <Box
        component="button"
        type="button"
        className="no-print"
        aria-label={`What is: ${of}`}
        aria-expanded={at !== null}
        onClick={(e) => setAt(e.currentTarget)}
        sx={{
          all: 'unset',
          boxSizing: 'border-box',
          cursor: 'pointer',
          ml: 0.75,
          width: 24,
          height: 24,
          lineHeight: '20px',
          textAlign: 'center',
          fontSize: 12,
          fontWeight: 600,
          borderRadius: '50%',
          border: '2px solid transparent',
          color: 'text.secondary',
          '&::before': {
            content: '"?"',
            display: 'inline-block',
            width: 16,
            height: 16,
            lineHeight: '16px',
            borderRadius: '50%',
            boxShadow: 'inset 0 0 0 1px currentColor',
          },
          '&:focus-visible': { borderColor: 'primary.main' },
        }}
      />
      {at && (
        <Suspense>
          <Explanation of={of} at={at} close={() => setAt(null)} />
        </Suspense>
      )}
    </>
  )
}
