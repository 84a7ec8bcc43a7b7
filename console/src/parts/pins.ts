import type { Schemas } from '../api/client'

/** pinned says what somebody recorded of a certificate. */
export const pinned: Record<Schemas['Pin']['what'], string> = {
  sha256: 'SHA-256 of the certificate',
  sha1: 'SHA-1 of the certificate',
  key: 'SHA-256 of the public key',
  certificate: 'certificate itself',
  root: 'root of the chain, in a trust store',
}
