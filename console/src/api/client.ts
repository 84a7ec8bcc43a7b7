import createClient from 'openapi-fetch'
import { connection } from './connection'
import type { components, paths } from './schema'

export type Schemas = components['schemas']
export type Slot = Schemas['Slot']
export type Replacement = Schemas['Replacement']
export type Finding = Schemas['Finding']
export type Link = Schemas['Link']
export type Device = Schemas['Device']
export type Task = Schemas['Task']
export type Batch = Schemas['Batch']
export type Role = Schemas['Session']['role']

/**
 * asked sends a request and notes whether the service answers, and whether it still knows who asks: if not, it is sent
 * again after the next sign-in. What needs a confirmation is sent again after it.
 */
export async function asked(request: RequestInfo | URL, init?: RequestInit): Promise<Response> {
  const spare = request instanceof Request ? request.clone() : request // a body is sent once
  try {
    const answer = await fetch(request, init)
    connection.answered(answer.status !== 502 && answer.status !== 503)
    const { url, method } = spare instanceof Request ? spare : { url: String(spare), method: init?.method }
    if (url.endsWith('/api/v1/session')) connection.session(answer.ok && method !== 'DELETE')
    else if (url.endsWith('/api/v1/session/confirmation')) return answer
    else if (answer.status === 401 && (await connection.signedOut())) return await asked(spare, init)
    else if (answer.status === 403 && (await kindOf(answer)) === 'urn:freshseal:unconfirmed') {
      if (await connection.unconfirmed()) return await asked(spare, init)
    }
    return answer
  } catch (e) {
    if (!(e instanceof DOMException && e.name === 'AbortError')) connection.answered(false)
    throw e
  }
}

/** kindOf is the type of the problem that an answer tells of. */
async function kindOf(answer: Response) {
  try {
    return ((await answer.clone().json()) as Partial<Schemas['Problem']>).type
  } catch {
    return undefined
  }
}

export const api = createClient<paths>({ baseUrl: window.location.origin, fetch: (request) => asked(request) })

/** ApiError is a problem document of the service: what went wrong, why, and what to do next. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    readonly detail?: string,
    readonly next?: string,
    readonly actions?: Schemas['Action'][],
    readonly type?: string,
  ) {
    super(title)
  }
}

type Answer<T> = { data?: T; error?: unknown; response: Response }

const silent = () =>
  new ApiError(
    0,
    'The service does not answer',
    'the connection failed',
    'What you typed stays here. Try again when the service is back.',
  )

/** take gives an answer's data, or throws its problem. */
export async function take<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await call
  } catch {
    throw silent()
  }
  if (answer.response.ok) return answer.data as T
  throw problem(answer.response, answer.error)
}

function problem(response: Response, body: unknown) {
  const p = body as Partial<Schemas['Problem']> | undefined
  return new ApiError(response.status, p?.title ?? response.statusText, p?.detail, p?.next, p?.actions, p?.type)
}

/** sendPile gives the service the files that a signer sent back. */
export async function sendPile(files: File[], trustRoots: boolean, keys: boolean): Promise<Schemas['Intake']> {
  const form = new FormData()
  for (const file of files) form.append('file', file, file.name)
  form.append('trust_roots', String(trustRoots))
  form.append('keys', String(keys))
  let answer: Response
  try {
    answer = await asked('/api/v1/intakes', { method: 'POST', body: form })
  } catch {
    throw silent()
  }
  const body: unknown = await answer.json()
  if (answer.ok) return body as Schemas['Intake']
  throw problem(answer, body)
}

/** revision guards a change: it counts only if the thing is still as it was looked at. */
export const revision = (seen: { revision: number } | undefined) => ({ 'If-Match': `"${seen?.revision ?? 0}"` })
