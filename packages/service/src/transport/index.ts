export { http1Connections } from './http1-transport.ts'
export { openTransport, openTransports } from './open-transport.ts'
export { type ExchangeRecorder, NoAnswer, type Transport, type TransportOptions, unanswered } from './transport.ts'
