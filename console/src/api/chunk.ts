import type { ComponentType } from 'react'

/** ChunkError says that a part of the console could not be loaded: the service is away, or was upgraded meanwhile. */
export class ChunkError extends Error {}

/** chunk loads a part of the console that is not needed at once. */
export async function chunk<T>(part: Promise<T>): Promise<T> {
  try {
    return await part
  } catch (e) {
    throw new ChunkError(String(e))
  }
}

/**
 * spare loads a part that a page can do without: where it cannot be loaded, nothing is shown in its place and the page
 * stays.
 */
export function spare<P>(load: () => Promise<ComponentType<P>>): Promise<ComponentType<P>> {
  return load().catch(() => () => null)
}
