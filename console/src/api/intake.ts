import { ApiError, type Schemas } from './client'

/** sendPile gives the service the files that a signer sent back. */
export async function sendPile(files: File[], trustRoots: boolean): Promise<Schemas['Intake']> {
  const form = new FormData()
  for (const file of files) form.append('file', file, file.name)
  form.append('trust_roots', String(trustRoots))
  let answer: Response
  try {
    answer = await fetch('/api/v1/intakes', { method: 'POST', body: form })
  } catch {
    throw new ApiError(0, 'The service does not answer', 'the connection failed', 'See that it runs, then try again.')
  }
  const body: unknown = await answer.json()
  if (answer.ok) return body as Schemas['Intake']
  const p = body as Schemas['Problem']
  throw new ApiError(answer.status, p.title, p.detail, p.next)
}
