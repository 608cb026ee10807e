import type { Where } from '../database/index.ts'

/** Apps whose work may be detached at a time; beyond that nothing new is started. */
const maxApps = 50

/** Called by a piece of work before it starts what may take long. */
export type Detach = () => void

/**
 * Runs the work of apps side by side, one piece of each app at a time. A piece that takes long detaches itself and continues on its
 * own, so that no other app waits for it.
 */
export class AppLimiter {
  readonly #running = new Map<number, Promise<void>>()
  readonly #onError: (error: unknown) => void
  readonly #closing: Promise<undefined>
  #startClosing = () => {}
  #isClosed = false

  /** @param onError gets the errors of detached pieces */
  constructor(onError: (error: unknown) => void) {
    this.#onError = onError
    this.#closing = new Promise((done) => {
      this.#startClosing = () => done(undefined)
    })
  }

  get isClosed(): boolean {
    return this.#isClosed
  }

  /** @returns undefined as soon as the limiter is closed, without waiting for the work */
  untilClosed<T>(work: Promise<T>): Promise<T | undefined> {
    return Promise.race([work, this.#closing])
  }

  /** Apps that have a piece running and get no other; undefined when nothing may be started. */
  get busyApps(): readonly number[] | undefined {
    return this.#isClosed || this.#running.size >= maxApps ? undefined : [...this.#running.keys()]
  }

  /**
   * @param work handles the items of one app, and returns how many it handled
   * @returns how many were handled by pieces that did not detach
   */
  async run<Item extends Pick<Where, 'appNo'>>(
    items: readonly Item[],
    work: (ofApp: readonly Item[], detach: Detach) => Promise<number>,
  ): Promise<number> {
    const byApp = new Map<number, Item[]>()
    for (const item of items) byApp.set(item.appNo, [...(byApp.get(item.appNo) ?? []), item])
    const counts = await Promise.all(
      [...byApp].map(([appNo, ofApp]) => this.#start(appNo, (detach) => work(ofApp, detach))),
    )
    return counts.reduce((sum, count) => sum + count, 0)
  }

  #start(appNo: number, work: (detach: Detach) => Promise<number>): Promise<number> {
    return new Promise((resolve, reject) => {
      let isDetached = false
      const detach = () => {
        isDetached = true
        resolve(0)
      }
      const end = work(detach)
        .then(resolve, (error: unknown) => (isDetached ? this.#onError(error) : reject(error)))
        .finally(() => this.#running.delete(appNo))
      this.#running.set(appNo, end)
    })
  }

  /** Waits for what is running. */
  async close(): Promise<void> {
    this.#isClosed = true
    this.#startClosing()
    await Promise.all(this.#running.values())
  }
}
