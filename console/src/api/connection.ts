import { useSyncExternalStore } from 'react'

type State = { away: boolean; out: boolean; unsure: boolean }

let state: State = { away: false, out: false, unsure: false }
let known = false // a session was there: who was signed in is asked for the password in place
let waiting: (() => void)[] = [] // the calls of an ended session
let asking: ((confirmed: boolean) => void)[] = [] // the calls that need a confirmation
const heard = new Set<() => void>()

function set(next: State) {
  if (next.away === state.away && next.out === state.out && next.unsure === state.unsure) return
  state = next
  for (const hear of heard) hear()
}

/**
 * connection is what is known of the service from its answers: whether it answers at all, whether the session has
 * ended, and whether a call needs a confirmation that its user is there. What was called without a session waits for
 * the next sign-in, if somebody was signed in; what needs a confirmation waits for it.
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
    set({ away: false, out: false, unsure: false })
    for (const go of waiting) go()
    for (const go of asking) go(true)
    waiting = []
    asking = []
  },
  unconfirmed: () => {
    set({ ...state, unsure: true })
    return new Promise<boolean>((go) => asking.push(go))
  },
  confirmed: (is: boolean) => {
    set({ ...state, unsure: false })
    for (const go of asking) go(is)
    asking = []
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
