import { Http2Transport } from './http2-transport.ts'
import type { Transport, TransportOptions } from './transport.ts'
import { CircuitTransport } from './with-circuit.ts'
import { DeadlineTransport } from './with-deadline.ts'

/** A connection to an origin, with deadlines and a circuit around it; nothing goes out before the first request. */
export const openTransport = (origin: string, options: TransportOptions): Transport =>
  new CircuitTransport(new DeadlineTransport(new Http2Transport(origin, options), options.timeoutMs))
