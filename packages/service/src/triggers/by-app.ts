import type { Where } from '../store/apps/where.ts'

/** So many apps go on by themselves at most; then what is next waits for one of them. */
const mostApps = 50

/** A piece of work calls it when it begins what may take long. */
export type Leave = () => void

/** Work of apps beside each other, of each one piece at a time: one that takes long goes on by itself, and holds up no other. */
export class ByApp {
  readonly #going = new Map<number, Promise<void>>()
  readonly #onFault: (error: unknown) => void
  readonly #closing: Promise<undefined>
  #close = () => {}
  #isClosed = false

  /** @param onFault hears of the faults of pieces that nobody waits for any more */
  constructor(onFault: (error: unknown) => void) {
    this.#onFault = onFault
    this.#closing = new Promise((done) => {
      this.#close = () => done(undefined)
    })
  }

  /** A piece asks between its steps. */
  get isClosed(): boolean {
    return this.#isClosed
  }

  /** What a piece waits for that may take long. @returns undefined when nobody waits for it any more, since all of this ends */
  unlessClosed<T>(work: Promise<T>): Promise<T | undefined> {
    return Promise.race([work, this.#closing])
  }

  /** The apps that have a piece under way, of which none is to be fetched meanwhile; undefined when nothing more is. */
  get going(): readonly number[] | undefined {
    return this.#isClosed || this.#going.size >= mostApps ? undefined : [...this.#going.keys()]
  }

  /**
   * @param work on what is of one app
   * @returns how many were done by those that took no leave
   */
  async run<One extends Pick<Where, 'appNo'>>(
    all: readonly One[],
    work: (own: readonly One[], leave: Leave) => Promise<number>,
  ): Promise<number> {
    const pieces = new Map<number, One[]>()
    for (const one of all) pieces.set(one.appNo, [...(pieces.get(one.appNo) ?? []), one])
    const done = await Promise.all([...pieces].map(([appNo, own]) => this.#begin(appNo, (leave) => work(own, leave))))
    return done.reduce((sum, count) => sum + count, 0)
  }

  #begin(appNo: number, work: (leave: Leave) => Promise<number>): Promise<number> {
    return new Promise((done, fail) => {
      let hasLeft = false
      const leave = () => {
        hasLeft = true
        done(0)
      }
      const end = work(leave)
        .then(done, (error: unknown) => (hasLeft ? this.#onFault(error) : fail(error)))
        .finally(() => this.#going.delete(appNo))
      this.#going.set(appNo, end)
    })
  }

  /** Ends when what is under way has. */
  async close(): Promise<void> {
    this.#isClosed = true
    this.#close()
    await Promise.all(this.#going.values())
  }
}
