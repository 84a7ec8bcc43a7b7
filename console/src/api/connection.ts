import { useSyncExternalStore } from 'react'

type State = { away: boolean; out: boolean }

let state: State = { away: false, out: false }
const heard = new Set<() => void>()

function set(next: State) {
  if (next.away === state.away && next.out === state.out) return
  state = next
  for (const hear of heard) hear()
}

/**
 * connection is what is known of the service from its answers: whether it answers at all, and whether the session has
 * ended.
 */
export const connection = {
  answered: (well: boolean) => set({ ...state, away: !well }),
  signedOut: () => set({ ...state, out: true }),
  signedIn: () => set({ away: false, out: false }),
}

/** useConnection follows it. */
export function useConnection(): State {
  return useSyncExternalStore(
    (hear) => {
      heard.add(hear)
      return () => heard.delete(hear)
    },
    () => state,
  )
}
