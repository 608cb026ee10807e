import { setTimeout } from 'node:timers/promises'

const retryAfterMs = 1_000

/**
 * Sends changed notifications to a listener, by number: one at a time, and once for any number of changes meanwhile. A failed send is
 * retried, because nothing else would report the change again.
 */
export class ChangeSender {
  readonly #pending = new Set<number>()
  readonly #send: (no: number) => Promise<void>
  readonly #onError: (error: unknown) => void
  #isSending = false
  #isClosed = false

  constructor(send: (no: number) => Promise<void>, onError: (error: unknown) => void) {
    this.#send = send
    this.#onError = onError
  }

  add(no: number): void {
    this.#pending.add(no)
    if (!this.#isSending) void this.#sendPending()
  }

  close(): void {
    this.#isClosed = true
  }

  async #sendPending(): Promise<void> {
    this.#isSending = true
    for (const no of this.#pending) {
      if (this.#isClosed) return
      this.#pending.delete(no)
      try {
        await this.#send(no)
      } catch (error) {
        this.#onError(error)
        this.#pending.add(no)
        await setTimeout(retryAfterMs)
      }
    }
    this.#isSending = false
  }
}
