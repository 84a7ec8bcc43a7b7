import { useSyncExternalStore } from 'react'

type State = { away: boolean; out: boolean }

let state: State = { away: false, out: false }
let known = false // a session was there: who was signed in is asked for the password in place
let waiting: (() => void)[] = [] // the calls of an ended session
const heard = new Set<() => void>()

function set(next: State) {
  if (next.away === state.away && next.out === state.out) return
  state = next
  for (const hear of heard) hear()
}

/**
 * connection is what is known of the service from its answers: whether it answers at all, and whether the session has
 * ended. What was called without a session waits for the next sign-in, if somebody was signed in.
 */
export const connection = {
  answered: (well: boolean) => set({ ...state, away: !well }),
  session: (is: boolean) => {
    known = is
  },
  signedOut: async () => {
    set({ ...state, out: true })
    if (known) await new Promise<void>((go) => waiting.push(go))
    return known
  },
  signedIn: () => {
    set({ away: false, out: false })
    for (const go of waiting) go()
    waiting = []
  },
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
