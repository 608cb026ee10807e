import { type Asking, type Exchange, NoAnswer, type Transport } from './transport.ts'

/** How exactly a deadline is kept, of the whole time. */
const sweepsInTime = 20

type Watched = { readonly exchange: Exchange; readonly patienceMs: number; readonly dueMs: number }

/**
 * Gives up on answers that have not come, whole, after so long: a stream's own timeout would start anew with every byte that
 * drips in. All requests have the same patience, which never becomes shorter, so the oldest are due first, and one timer does for
 * all. Time in which this process stood still, because it had much to do or no processor, is not taken from the gateway's: its
 * answer may be waiting to be read.
 */
export class DeadlineTransport implements Transport {
  readonly #inner: Transport
  readonly #timeoutMs: number
  /** Whole after the first answer. Until then twice as long after each time-out: who is slow is found in the end, too. */
  #patienceMs: number
  /** How much time has passed as this process had it, and when that was read last. */
  #clockMs = 0
  #readMs = performance.now()
  readonly #watched = new Set<Watched>()
  #timer: NodeJS.Timeout | undefined

  /** @param firstMs as long as nothing has been answered */
  constructor(inner: Transport, timeoutMs: number, firstMs = timeoutMs) {
    this.#inner = inner
    this.#timeoutMs = timeoutMs
    this.#patienceMs = Math.min(firstMs, timeoutMs)
  }

  get address(): string {
    return this.#inner.address
  }

  get backoffUntilMs(): number {
    return this.#inner.backoffUntilMs
  }

  request(asking: Asking): Exchange {
    const exchange = this.#inner.request(asking)
    const patienceMs = this.#patienceMs
    const watched = { exchange, patienceMs, dueMs: this.#now() + patienceMs }
    this.#watched.add(watched)
    this.#timer ??= setInterval(() => this.#sweep(), this.#sweepMs).unref()
    const failed = () => this.#watched.delete(watched)
    const came = () => {
      this.#patienceMs = this.#timeoutMs
      this.#watched.delete(watched)
    }
    exchange.answer.then(came, failed)
    return exchange
  }

  get #sweepMs(): number {
    return Math.max(10, this.#patienceMs / sweepsInTime)
  }

  /** A timer that comes much later than it should was held up here. */
  #now(): number {
    const realMs = performance.now()
    this.#clockMs += Math.min(realMs - this.#readMs, this.#sweepMs * 2)
    this.#readMs = realMs
    return this.#clockMs
  }

  #sweep(): void {
    const nowMs = this.#now()
    for (const watched of this.#watched) {
      if (watched.dueMs > nowMs) return
      this.#watched.delete(watched)
      const { exchange } = watched
      this.#patienceMs = Math.min(Math.max(this.#patienceMs, watched.patienceMs * 2), this.#timeoutMs)
      exchange.cancel(new NoAnswer(this.address, 'ETIMEDOUT', { headCame: exchange.headCame }))
    }
    clearInterval(this.#timer)
    this.#timer = undefined
  }

  close(): Promise<void> {
    return this.#inner.close()
  }
}
