import type { Receipt } from '@zbell/contract'
import { type Client, ProblemError, UnreachableError } from '@zbell/contract/client'
import type { ReceiptState } from '@zbell/core/states'
import type { KitStorage } from './storage.ts'

/** What one call to the service takes. */
const together = 100
/** What a device keeps while it has no network; beyond it the oldest go. */
const mostWaiting = 1_000
const name = 'receipts'

type Book = { readonly waiting: readonly Receipt[]; readonly known: readonly string[] }

/** Receipts wait here until the service has them: over restarts, offline, and never twice. */
export class ReceiptBook {
  readonly #storage: KitStorage
  readonly #client: () => Promise<Client | undefined>
  #turn: Promise<unknown> = Promise.resolve()
  #flushing: Promise<boolean> | undefined

  /** @param client speaks for the registered device; `undefined` while there is none */
  constructor(storage: KitStorage, client: () => Promise<Client | undefined>) {
    this.#storage = storage
    this.#client = client
  }

  /** Writes a receipt down. One that was written before is not written again. */
  add(notification: string, state: ReceiptState, at: Date, action?: string): Promise<void> {
    return this.#change((book) => {
      const key = `${notification} ${state}`
      if (book.known.includes(key)) return book
      const receipt: Receipt = {
        notification,
        state,
        at: at.toISOString(),
        ...(action === undefined ? {} : { action }),
      }
      return {
        waiting: [...book.waiting, receipt].slice(-mostWaiting),
        known: [...book.known, key].slice(-2 * mostWaiting),
      }
    })
  }

  /** Hands over what waits. @returns false when some still waits, for a later try */
  flush(): Promise<boolean> {
    this.#flushing ??= this.#flushAll().finally(() => {
      this.#flushing = undefined
    })
    return this.#flushing
  }

  async #flushAll(): Promise<boolean> {
    for (;;) {
      await this.#turn
      const { waiting } = await this.#read()
      if (waiting.length === 0) return true
      const client = await this.#client()
      if (!client) return false
      const batch = waiting.slice(0, together)
      try {
        await client.call('reportReceipts', { body: { receipts: batch } })
      } catch (error) {
        if (error instanceof UnreachableError || !(error instanceof ProblemError)) return false
        const { status } = error.problem
        if (status === 401 || status === 429 || status >= 500) return false
        // The service will never take this batch; keeping it would hold up all that follow.
      }
      await this.#change((book) => ({
        ...book,
        waiting: book.waiting.filter((receipt) => !batch.some((sent) => same(sent, receipt))),
      }))
    }
  }

  async #read(): Promise<Book> {
    return (await this.#storage.get<Book>(name)) ?? { waiting: [], known: [] }
  }

  #change(how: (book: Book) => Book): Promise<void> {
    const done = this.#turn.then(async () => {
      const book = await this.#read()
      const next = how(book)
      if (next !== book) await this.#storage.set(name, next)
    })
    this.#turn = done.catch(() => undefined) // The caller hears of it; the next change starts from what is stored.
    return done
  }
}

const same = (a: Receipt, b: Receipt): boolean => a.notification === b.notification && a.state === b.state
