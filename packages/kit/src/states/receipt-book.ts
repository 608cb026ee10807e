import type { Receipt } from '@zbell/contract'
import { type Client, ProblemError, UnreachableError } from '@zbell/contract/client'
import type { ReceiptState } from '@zbell/core/states'
import { Kept } from './kept.ts'
import type { KitStorage } from './storage.ts'

/** What one call to the service takes. */
const batchSize = 100
/** What a device keeps while it has no network; beyond it the oldest go. */
const maxWaiting = 1_000

/** What else a receipt tells. */
export type ReceiptMore = Pick<Receipt, 'action' | 'appState' | 'became'>

type Book = { readonly waiting: readonly Receipt[]; readonly known: readonly string[] }

/** Receipts wait here until the service has them: over restarts, offline, and never twice. */
export class ReceiptBook {
  readonly #book: Kept<Book>
  readonly #client: () => Promise<Client | undefined>
  #flushing: Promise<boolean> | undefined

  /** @param client speaks for the registered device; `undefined` while there is none */
  constructor(storage: KitStorage, client: () => Promise<Client | undefined>) {
    this.#book = new Kept(storage, 'receipts', { waiting: [], known: [] })
    this.#client = client
  }

  /** Writes a receipt down. One that was written before is not written again. */
  async add(notification: string, state: ReceiptState, at: Date, more: ReceiptMore = {}): Promise<void> {
    await this.#book.change((book) => {
      const key = `${notification} ${state}`
      if (book.known.includes(key)) return book
      const receipt: Receipt = {
        notification,
        state,
        at: at.toISOString(),
        ...more,
      }
      return {
        waiting: [...book.waiting, receipt].slice(-maxWaiting),
        known: [...book.known, key].slice(-2 * maxWaiting),
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
      const { waiting } = await this.#book.read()
      if (waiting.length === 0) return true
      const client = await this.#client()
      if (!client) return false
      const batch = waiting.slice(0, batchSize)
      try {
        await client.call('reportReceipts', { body: { receipts: batch } })
      } catch (error) {
        if (error instanceof UnreachableError || !(error instanceof ProblemError)) return false
        const { status } = error.problem
        if (status === 401 || status === 429 || status >= 500) return false
        // The service will never take this batch; keeping it would hold up all that follow.
      }
      await this.#book.change((book) => ({
        ...book,
        waiting: book.waiting.filter((receipt) => !batch.some((sent) => same(sent, receipt))),
      }))
    }
  }
}

const same = (a: Receipt, b: Receipt): boolean => a.notification === b.notification && a.state === b.state
