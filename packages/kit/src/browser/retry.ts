import { report } from './listeners.ts'

const firstMs = 2_000
const maxMs = 300_000

/** One thing that is to be tried again later: after 2 s, then 4, at most every five minutes. */
export class Retry {
  #ms = firstMs
  #timer: ReturnType<typeof setTimeout> | undefined

  /** Instead of what it was to try before. */
  later(what: () => Promise<unknown>): void {
    this.cancel()
    this.#timer = setTimeout(() => void what().catch(report), this.#ms)
    this.#ms = Math.min(this.#ms * 2, maxMs)
  }

  /** It went well: the next time begins with a short wait again. */
  done(): void {
    this.cancel()
    this.#ms = firstMs
  }

  cancel(): void {
    clearTimeout(this.#timer)
  }
}
