import { ApiError } from '../../api/client'

/** fieldOf is the field of a form that a problem is about, where it says so. */
export function fieldOf(error: unknown, fields: string[]): string | undefined {
  if (!(error instanceof ApiError)) return undefined
  const about = error.actions?.find((a) => a.do === 'give')?.about
  return (
    about &&
    fields.find((f) => f === about || f.toLowerCase() === about.replaceAll('-', '').replaceAll('_', '').toLowerCase())
  )
}

/** differing are the fields that two states of a thing differ in. */
export function differing<T extends object>(a: T, b: T): (keyof T & string)[] {
  const names = new Set([...Object.keys(a), ...Object.keys(b)]) as Set<keyof T & string>
  return [...names].filter((n) => JSON.stringify(a[n] ?? '') !== JSON.stringify(b[n] ?? ''))
}
