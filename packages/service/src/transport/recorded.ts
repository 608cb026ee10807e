import type { GatewayAnswer, RecordedExchange } from '@zbell/core'
import type { Asking, Exchange, ExchangeRecorder, NoAnswer, Transport } from './transport.ts'

/** A request that is recorded is read in whole; one that is not costs nothing. */
export class RecordedTransport implements Transport {
  readonly #inner: Transport
  readonly #recorder: ExchangeRecorder
  readonly #http: RecordedExchange['http']

  constructor(inner: Transport, recorder: ExchangeRecorder, http: RecordedExchange['http']) {
    this.#inner = inner
    this.#recorder = recorder
    this.#http = http
  }

  get address(): string {
    return this.#inner.address
  }

  get backoffUntilMs(): number {
    return this.#inner.backoffUntilMs
  }

  request(asking: Asking): Exchange {
    if (!this.#recorder.isOn) return this.#inner.request(asking)
    const { method, path, headers, body } = asking
    const atMs = Date.now()
    const startMs = performance.now()
    const exchange = this.#inner.request({ ...asking, reads: 'everything' })
    const keep = (end: { answer: GatewayAnswer } | { failed: string }) =>
      this.#recorder.keep({
        atMs,
        durationMs: Math.round((performance.now() - startMs) * 10) / 10,
        http: this.#http,
        method,
        url: this.address + path,
        headers,
        body: typeof body === 'string' ? body : Buffer.from(body).toString('base64'),
        ...end,
      })
    exchange.answer.then(
      (answer) => keep({ answer }),
      (error: NoAnswer) => keep({ failed: error.code }),
    )
    return exchange
  }

  close(): Promise<void> {
    return this.#inner.close()
  }
}
