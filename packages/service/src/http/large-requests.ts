import { performance } from 'node:perf_hooks'
import { setTimeout as wait } from 'node:timers/promises'
import { Problem } from '../problems/problem.ts'

/** Large requests of one app that may wait. */
const maxWaiting = 20
/** After a large request the app’s next one waits for so many times as long as the event loop was busy with it. */
const restShare = 2
const maxRestMs = 1_000
/** An app that has called within so long has something to lose. */
const activeMs = 5_000

type Call = { readonly appNo: number; readonly atMs: number }

/**
 * Requests with large bodies are handled one at a time for each app. Where other apps call as well, the next one waits for a while,
 * so that an app that sends nothing but large ones leaves most of the event loop’s time to the others.
 */
export class LargeRequests {
  /** The last large request of each app that is not done. */
  readonly #last = new Map<number, Promise<void>>()
  readonly #waiting = new Map<number, number>()
  /** Who called last, and who before them; by `performance.now()`. */
  #latest: Call | undefined
  #earlier: Call | undefined

  /** An app calls, however large. */
  note(appNo: number): void {
    if (this.#latest?.appNo !== appNo) this.#earlier = this.#latest
    this.#latest = { appNo, atMs: performance.now() }
  }

  /**
   * Waits for the turn of a large request.
   * @returns ends it
   * @throws {Problem} `too-many-requests`
   */
  async begin(appNo: number): Promise<() => void> {
    const waiting = this.#waiting.get(appNo) ?? 0
    if (waiting >= maxWaiting)
      throw new Problem('too-many-requests', `More than ${maxWaiting} large requests of this app are waiting.`)
    this.#waiting.set(appNo, waiting + 1)
    const before = this.#last.get(appNo)
    let end = () => {}
    const own = new Promise<void>((done) => {
      end = done
    })
    this.#last.set(appNo, own)
    await before
    const left = (this.#waiting.get(appNo) ?? 1) - 1
    if (left > 0) this.#waiting.set(appNo, left)
    else this.#waiting.delete(appNo)
    const began = performance.eventLoopUtilization()
    return () => {
      const { active } = performance.eventLoopUtilization(began)
      const restMs = this.#isAlone(appNo) ? 0 : Math.min(maxRestMs, active * restShare)
      void wait(restMs, undefined, { ref: false }).then(() => {
        if (this.#last.get(appNo) === own) this.#last.delete(appNo)
        end()
      })
    }
  }

  #isAlone(appNo: number): boolean {
    const other = this.#latest?.appNo === appNo ? this.#earlier : this.#latest
    return !other || performance.now() - other.atMs > activeMs
  }
}
