import { useEffect, useState } from 'react'
import type { Replacement } from '../../api/client'
import { keys } from '../../api/keys'
import { queryClient, stale } from '../../api/queries'

/**
 * useLive follows a running replacement: whenever the service has news of it, the page reads it again. It says
 * whether the stream holds; where it does not, the page has to ask by itself.
 */
export function useLive(id: string, state?: Replacement['state']) {
  const running = state === 'running'
  const [holds, setHolds] = useState(false)
  useEffect(() => {
    if (!running) return
    let due = 0 // news come in bursts, of which the last counts
    const fresh = () => {
      due ||= window.setTimeout(() => {
        due = 0
        void queryClient.invalidateQueries({ queryKey: [...keys.replacements, id] })
      }, 100)
    }
    const stream = new EventSource(`/api/v1/replacements/${encodeURIComponent(id)}/events`)
    stream.addEventListener('open', () => setHolds(true))
    stream.addEventListener('error', () => setHolds(false))
    for (const kind of ['stage', 'step', 'screen', 'state']) stream.addEventListener(kind, fresh)
    stream.addEventListener('still', () => {
      stream.close()
      void stale('replacements')
    })
    return () => {
      window.clearTimeout(due)
      stream.close()
      setHolds(false)
    }
  }, [id, running])
  return holds
}
