import { Http1Transport } from './http1-transport.ts'
import { Http2Transport } from './http2-transport.ts'
import { OriginsTransport } from './over-origins.ts'
import { RecordedTransport } from './recorded.ts'
import type { Transport, TransportOptions } from './transport.ts'
import { CircuitTransport } from './with-circuit.ts'
import { DeadlineTransport } from './with-deadline.ts'

/** A connection to an origin, with deadlines and a circuit around it; nothing goes out before the first request. */
export function openTransport(origin: string, options: TransportOptions): Transport {
  const isHttp2 = options.http === undefined || options.http === 2
  const { timeoutMs, strangerMs } = options
  const bare = isHttp2 ? new Http2Transport(origin, options) : new Http1Transport(origin, options)
  const inTime = new DeadlineTransport(bare, timeoutMs, strangerMs)
  const careful = new CircuitTransport(inTime, Date.now, strangerMs !== undefined)
  return options.recorder ? new RecordedTransport(careful, options.recorder, isHttp2 ? '2' : '1.1') : careful
}

/** The same to whichever of several origins is there; the first one first. */
export function openTransports(origins: readonly string[], options: TransportOptions): Transport {
  const [only, ...others] = origins.map((one) => openTransport(one, options))
  if (!only) throw new RangeError('there is no origin to speak to')
  return others.length === 0 ? only : new OriginsTransport([only, ...others])
}
