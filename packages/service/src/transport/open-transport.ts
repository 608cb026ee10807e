import { EitherTransport } from './either-transport.ts'
import { Http1Transport } from './http1-transport.ts'
import { Http2Transport } from './http2-transport.ts'
import { OriginsTransport } from './over-origins.ts'
import { RecordedTransport } from './recorded.ts'
import type { Transport, TransportOptions } from './transport.ts'
import { CircuitTransport } from './with-circuit.ts'
import { DeadlineTransport } from './with-deadline.ts'

/** A connection to an origin, with deadlines and a circuit around it; nothing goes out before the first request. */
export function openTransport(origin: string, options: TransportOptions): Transport {
  const { timeoutMs, strangerMs, http = 2 } = options
  const Speaks = { '2': Http2Transport, '1.1': Http1Transport, either: EitherTransport }[http]
  const bare = new Speaks(origin, options)
  const inTime = new DeadlineTransport(bare, timeoutMs, strangerMs)
  const careful = new CircuitTransport(inTime, Date.now, strangerMs !== undefined)
  return options.recorder ? new RecordedTransport(careful, options.recorder, http === 1.1 ? '1.1' : '2') : careful
}

/** The same to whichever of several origins is there; the first one first. */
export function openTransports(origins: readonly string[], options: TransportOptions): Transport {
  const [only, ...others] = origins.map((one) => openTransport(one, options))
  if (!only) throw new RangeError('there is no origin to speak to')
  return others.length === 0 ? only : new OriginsTransport([only, ...others])
}
