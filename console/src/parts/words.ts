/** day writes a time as its date, UTC. */
export function day(time?: string | null) {
  return time ? time.slice(0, 10) : '–'
}

/** moment writes a time to the second, UTC. */
export function moment(time?: string | null) {
  return time ? `${time.slice(0, 10)} ${time.slice(11, 19)} UTC` : '–'
}

/** days says how long something still holds. */
export function days(n?: number | null) {
  if (n === null || n === undefined) return '–'
  if (n < 0) return `ended ${-n} d ago`
  return `${n} d`
}

/** took says how long something took, in seconds. */
export function took(from: string, to?: string | null) {
  if (!to) return ''
  return `${((Date.parse(to) - Date.parse(from)) / 1000).toFixed(2)} s`
}
