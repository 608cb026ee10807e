import { performance } from 'node:perf_hooks'
import { setTimeout as wait } from 'node:timers/promises'
import { LRUCache } from 'lru-cache'
import pLimit, { type LimitFunction } from 'p-limit'
import { Problem } from '../base/index.ts'

/** Large requests of one owner that may be read, or wait. */
const maxWaiting = 20
/** After a large request its owner’s next one waits for so many times as long as the event loop was busy with it. */
const restShare = 2
const maxBackoffMs = 1_000
/** An app that has called within so long has something to lose. */
const activeMs = 5_000
const ownersKept = 10_000

type Call = { readonly appNo: number; readonly atMs: number }

/** Who sends: what one device sends never delays the app’s backend. */
export type LargeSender = { readonly appNo: number; readonly owner: string }

/**
 * Handles requests with large bodies, one at a time for each owner. Where other apps call as well, the next one waits for a while,
 * so that an app that sends nothing but large ones leaves most of the event loop’s time to the others.
 */
export class LargeRequests {
  readonly #owners = new LRUCache<string, { readonly limit: LimitFunction; count: number }>({ max: ownersKept })
  /** Who called last, and who before them. */
  #latest: Call | undefined
  #earlier: Call | undefined

  /** An app calls, however large. */
  note(appNo: number): void {
    if (this.#latest?.appNo !== appNo) this.#earlier = this.#latest
    this.#latest = { appNo, atMs: performance.now() }
  }

  /**
   * @param read takes the body in: nobody waits for a slow sender
   * @param handle what has a turn
   * @throws {Problem} `too-many-requests`
   */
  async run<T>({ appNo, owner }: LargeSender, read: () => Promise<void>, handle: () => Promise<T>): Promise<T> {
    const own = this.#owners.get(owner) ?? { limit: pLimit(1), count: 0 }
    if (own.count >= maxWaiting)
      throw new Problem('too-many-requests', `More than ${maxWaiting} large requests are waiting.`)
    this.#owners.set(owner, own)
    own.count++
    try {
      await read()
      return await new Promise<T>((resolve) => {
        void own.limit(async () => {
          const began = performance.eventLoopUtilization()
          const handled = handle()
          resolve(handled)
          await handled.catch(() => {}) // Whoever asked hears it.
          const { active } = performance.eventLoopUtilization(began)
          if (!this.#isAlone(appNo)) await wait(Math.min(maxBackoffMs, active * restShare), undefined, { ref: false })
        })
      })
    } finally {
      own.count--
    }
  }

  #isAlone(appNo: number): boolean {
    const other = this.#latest?.appNo === appNo ? this.#earlier : this.#latest
    return !other || performance.now() - other.atMs > activeMs
  }
}
