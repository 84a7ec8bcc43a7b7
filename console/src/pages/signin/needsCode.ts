import { ApiError } from '../../api/client'

/** needsCode says that a sign-in lacks the code of an authenticator. */
export const needsCode = (error: unknown) => error instanceof ApiError && error.type === 'urn:freshseal:needs-code'
