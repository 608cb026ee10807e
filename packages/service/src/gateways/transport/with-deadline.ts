import { type Asking, type Exchange, NoAnswer, type Transport } from './transport.ts'

/** How exactly a deadline is kept, of the whole time. */
const sweepsInTime = 20

type Watched = { readonly exchange: Exchange; readonly dueMs: number }

/**
 * Gives up on answers that have not come, whole, after so long: a stream's own timeout would start anew with every byte that
 * drips in. All requests have the same patience, so the oldest are due first, and one timer does for all.
 */
export class DeadlineTransport implements Transport {
  readonly #inner: Transport
  readonly #timeoutMs: number
  /** It becomes longer once, and never shorter. */
  #patienceMs: number
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

  get restsUntilMs(): number {
    return this.#inner.restsUntilMs
  }

  request(asking: Asking): Exchange {
    const exchange = this.#inner.request(asking)
    const watched = { exchange, dueMs: performance.now() + this.#patienceMs }
    this.#watched.add(watched)
    this.#timer ??= setInterval(() => this.#sweep(), Math.max(10, this.#patienceMs / sweepsInTime)).unref()
    const failed = () => this.#watched.delete(watched)
    const came = () => {
      this.#patienceMs = this.#timeoutMs
      this.#watched.delete(watched)
    }
    exchange.answer.then(came, failed)
    return exchange
  }

  #sweep(): void {
    const nowMs = performance.now()
    for (const watched of this.#watched) {
      if (watched.dueMs > nowMs) return
      this.#watched.delete(watched)
      const { exchange } = watched
      exchange.cancel(new NoAnswer(this.address, 'ETIMEDOUT', { headCame: exchange.headCame }))
    }
    clearInterval(this.#timer)
    this.#timer = undefined
  }

  close(): Promise<void> {
    return this.#inner.close()
  }
}
