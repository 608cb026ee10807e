import { Kept } from './kept.ts'
import type { KitStorage } from './storage.ts'

/** A device remembers so many notifications to know a second copy; older ones have long expired. */
const remembered = 500

/** Knows what has arrived, so that a notification that is handed over twice is shown once. */
export class Arrivals {
  readonly #arrived: Kept<readonly string[]>

  constructor(storage: KitStorage) {
    this.#arrived = new Kept(storage, 'arrived', [])
  }

  /** Takes note of a notification. @returns false when it was there before */
  async firstTime(notification: string): Promise<boolean> {
    let first = false
    await this.#arrived.change((seen) => {
      first = !seen.includes(notification)
      return first ? [...seen, notification].slice(-remembered) : seen
    })
    return first
  }
}
