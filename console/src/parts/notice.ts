import { useSyncExternalStore } from 'react'

let said: { text: string; n: number } = { text: '', n: 0 }
const heard = new Set<() => void>()

/** say tells the user in passing that something was done. */
export function say(text: string) {
  said = { text, n: said.n + 1 }
  for (const hear of heard) hear()
}

export function useNotice() {
  return useSyncExternalStore(
    (hear) => {
      heard.add(hear)
      return () => heard.delete(hear)
    },
    () => said,
  )
}
