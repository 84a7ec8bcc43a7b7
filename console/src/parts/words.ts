/** day writes a time as its date, UTC. */
export function day(time?: string | null) {
  return time ? time.slice(0, 10) : '–'
}

/** moment writes a time to the second, UTC. */
export function moment(time?: string | null) {
  return time ? `${time.slice(0, 10)} ${time.slice(11, 19)} UTC` : '–'
}

/** local returns the local time of a moment, with its date if that differs from UTC; empty if the zone is UTC. */
export function local(at: string) {
  const then = new Date(at)
  const offset = then.getTimezoneOffset()
  if (offset === 0 || Number.isNaN(offset)) return ''
  const text = new Date(then.getTime() - offset * 60_000).toISOString()
  return text.slice(0, 10) === at.slice(0, 10) ? text.slice(11, 16) : `${text.slice(0, 10)} ${text.slice(11, 16)}`
}

/** momentHere writes a time to the second, UTC, and the local time of the browser if its zone is another. */
export function momentHere(time?: string | null) {
  const here = time && local(time)
  return moment(time) + (here ? ` (${here} local)` : '')
}

const months = [
  'January',
  'February',
  'March',
  'April',
  'May',
  'June',
  'July',
  'August',
  'September',
  'October',
  'November',
  'December',
]

/** month writes 2027-03 as March 2027. */
export function month(text: string) {
  return `${months[Number(text.slice(5)) - 1] ?? text} ${text.slice(0, 4)}`
}

/** days says how long something is still valid. */
export function days(n?: number | null) {
  if (n === null || n === undefined) return '–'
  if (n < 0) return `expired ${some(-n, 'day')} ago`
  return some(n, 'day')
}

/** number writes a number as everywhere in the console: 5,001. */
export function number(n: number) {
  return n.toLocaleString('en')
}

/** some writes a number with its noun. */
export function some(n: number, noun: string) {
  return n === 1 ? `1 ${noun}` : `${number(n)} ${noun}${noun.endsWith('s') ? 'es' : 's'}`
}

/** took says how long something took, in seconds. */
export function took(from: string, to?: string | null) {
  if (!to) return ''
  return `${((Date.parse(to) - Date.parse(from)) / 1000).toFixed(2)} s`
}

/** lasted says how long something lasted, waits included: 3 d 4 h, 12 min, 8 s. */
export function lasted(from: string, to: string) {
  return span((Date.parse(to) - Date.parse(from)) / 1000)
}

/** spent says how long a stage took, work and waiting apart: 2.15 s, 3 h 4 min waiting. */
export function spent(ran: number, waited: number) {
  const work = ran < 60 ? `${ran.toFixed(2)} s` : span(ran)
  return waited < 1 ? work : `${work}, ${span(waited)} waiting`
}

function span(exact: number) {
  const seconds = Math.max(0, Math.round(exact))
  const parts = [
    [Math.floor(seconds / 86400), 'd'],
    [Math.floor(seconds / 3600) % 24, 'h'],
    [Math.floor(seconds / 60) % 60, 'min'],
    [seconds % 60, 's'],
  ] as const
  const first = parts.findIndex(([n]) => n > 0)
  return first < 0
    ? '0 s'
    : parts
        .slice(first, first + 2)
        .flatMap(([n, unit]) => (n > 0 ? [`${n} ${unit}`] : []))
        .join(' ')
}

/** words are those of a text, separated by blanks or commas. */
export const words = (text: string) => text.split(/[\s,]+/).filter(Boolean)

export const slotPath = (device: string, slot: string) =>
  `/slots/${encodeURIComponent(device)}/${encodeURIComponent(slot)}`
export const devicePath = (device: string) => `/devices/${encodeURIComponent(device)}`
