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
