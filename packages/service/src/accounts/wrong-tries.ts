import { setTimeout as wait } from 'node:timers/promises'
import { LRUCache } from 'lru-cache'
import { Problem } from '../base/index.ts'

type Tries = { wrong: number; waiting: number; last: Promise<unknown> }

/** So many names are remembered, each for so long after its last try. */
const maxNames = 10_000
const rememberMs = 15 * 60_000
/** The first wrong tries cost nothing: people mistype. */
const forgiven = 3
const firstWaitMs = 250
const maxWaitMs = 8_000
/** So many wait for one name; more are turned away, and may come again. */
const maxWaiting = 10

/**
 * Tries at one name, one after the other, each answered later than the one before as wrong ones go on. The name is that of an
 * account together with the address that tries: whoever guesses slows down themselves, and keeps nobody out. What is right begins
 * anew.
 */
export class WrongTries {
  readonly #tries = new LRUCache<string, Tries>({ max: maxNames, ttl: rememberMs })
  readonly #sleep: (ms: number) => Promise<unknown>

  /** @param sleep waits so many ms */
  constructor(sleep: (ms: number) => Promise<unknown> = (ms) => wait(ms)) {
    this.#sleep = sleep
  }

  /**
   * @param look finds what is right; undefined for a wrong try
   * @returns with it how many wrong ones there were in a row
   * @throws {Problem} when too many wait already
   */
  async at<T>(
    name: string,
    look: () => Promise<T | undefined>,
  ): Promise<{ readonly found: T | undefined; readonly wrong: number }> {
    const tries = this.#tries.get(name) ?? { wrong: 0, waiting: 0, last: Promise.resolve() }
    this.#tries.set(name, tries)
    if (tries.waiting >= maxWaiting)
      throw new Problem('too-many-requests', 'Too many try to sign in as this one at this moment.')
    tries.waiting++
    const turn = tries.last.then(() => this.#try(tries, look))
    tries.last = turn.catch(() => {}) // Whoever asked hears of it.
    return turn.finally(() => {
      tries.waiting--
    })
  }

  async #try<T>(tries: Tries, look: () => Promise<T | undefined>) {
    const beyond = tries.wrong - forgiven
    if (beyond >= 0) await this.#sleep(Math.min(firstWaitMs * 2 ** beyond, maxWaitMs))
    const found = await look()
    tries.wrong = found === undefined ? tries.wrong + 1 : 0
    return { found, wrong: tries.wrong }
  }
}
