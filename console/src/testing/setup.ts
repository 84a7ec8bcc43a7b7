import { cleanup } from '@testing-library/react'
import { afterEach, vi } from 'vitest'

// jsdom draws nothing.
Element.prototype.scrollIntoView = () => undefined
const nothing = () => undefined
// MUI still listens by the old names, which the types of today call deprecated.
const media = Object.fromEntries(['addEventListener', 'removeEventListener', 'addListener', 'removeListener'].map((n) => [n, nothing]))
window.matchMedia = (query) => ({ matches: false, media: query, ...media }) as unknown as MediaQueryList

afterEach(() => {
  cleanup()
  vi.restoreAllMocks()
  window.localStorage.clear()
})
