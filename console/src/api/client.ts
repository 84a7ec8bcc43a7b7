import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

export type Schemas = components['schemas']
export type Slot = Schemas['Slot']
export type Replacement = Schemas['Replacement']
export type Finding = Schemas['Finding']
export type Link = Schemas['Link']
export type Device = Schemas['Device']
export type Task = Schemas['Task']

export const api = createClient<paths>({ baseUrl: window.location.origin })

/** ApiError is a problem document of the service: what went wrong, why, and what to do next. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    readonly detail?: string,
    readonly next?: string,
  ) {
    super(title)
  }
}

type Answer<T> = { data?: T; error?: unknown; response: Response }

/** take gives an answer's data, or throws its problem. */
export async function take<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await call
  } catch {
    throw new ApiError(0, 'The service does not answer', 'the connection failed', 'See that it runs, then try again.')
  }
  if (answer.response.ok) return answer.data as T
  const p = answer.error as Partial<Schemas['Problem']> | undefined
  throw new ApiError(answer.response.status, p?.title ?? answer.response.statusText, p?.detail, p?.next)
}
