import { Http1Transport } from './http1-transport.ts'
import { Http2Transport, noHttp2 } from './http2-transport.ts'
import { AskedInTurn } from './in-turn.ts'
import type { Asking, Exchange, NoAnswer, Transport, TransportOptions } from './transport.ts'

/** How TLS says that the other side speaks none of what was offered (RFC 7301 §3.2). */
const refusedProtocols = new Set([
  noHttp2,
  'ERR_SSL_TLSV1_ALERT_NO_APPLICATION_PROTOCOL',
  'ERR_SSL_TLSV13_ALERT_NO_APPLICATION_PROTOCOL',
])

/** HTTP/2 where the other side speaks it, as nearly all do; HTTP/1.1 from the first handshake on where it does not. */
export class EitherTransport implements Transport {
  readonly address: string
  readonly backoffUntilMs = 0
  readonly #options: TransportOptions
  readonly #http2: Http2Transport
  #http1: Http1Transport | undefined

  constructor(origin: string, options: TransportOptions) {
    this.address = origin
    this.#options = options
    this.#http2 = new Http2Transport(origin, options)
  }

  request(asking: Asking): Exchange {
    if (this.#http1) return this.#http1.request(asking)
    if (this.#http2.isSpoken) return this.#http2.request(asking)
    const older = { request: (again: Asking) => this.#older().request(again) }
    return new AskedInTurn([this.#http2, older], asking, ({ code }: NoAnswer) => refusedProtocols.has(code))
  }

  #older(): Http1Transport {
    this.#http1 ??= new Http1Transport(this.address, this.#options)
    return this.#http1
  }

  async close(): Promise<void> {
    await Promise.all([this.#http2.close(), this.#http1?.close()])
  }
}
