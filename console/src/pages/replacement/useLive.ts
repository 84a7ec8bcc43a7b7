import { useEffect } from 'react'
import type { Replacement } from '../../api/client'
import { queryClient } from '../../api/queries'

/** useLive follows a running replacement: whenever the service has news of it, the page reads it again. */
export function useLive(id: string, state?: Replacement['state']) {
  const running = state === 'running'
  useEffect(() => {
    if (!running) return
    const fresh = () => void queryClient.invalidateQueries({ queryKey: ['replacements', id] })
    const stream = new EventSource(`/api/v1/replacements/${encodeURIComponent(id)}/events`)
    for (const kind of ['stage', 'step', 'state']) stream.addEventListener(kind, fresh)
    stream.addEventListener('still', () => {
      stream.close()
      void queryClient.invalidateQueries()
    })
    return () => stream.close()
  }, [id, running])
}
