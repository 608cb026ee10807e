import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import type { Metrics } from './metrics.ts'

/** Answers metrics, and nothing else, to whoever can reach it. */
export async function metricsListener(
  metrics: Metrics,
  { host, port }: { readonly host: string; readonly port: number },
): Promise<{ readonly port: number; close(): Promise<void> }> {
  const server = createServer(async (request, response) => {
    if (request.method !== 'GET' || request.url !== '/metrics') {
      response.writeHead(404).end()
      return
    }
    try {
      const text = await metrics.registry.metrics()
      response.writeHead(200, { 'content-type': metrics.registry.contentType }).end(text)
    } catch {
      response.writeHead(500).end() // What was asked for is how it does; the next look may be luckier.
    }
  })
  server.headersTimeout = 10_000
  server.requestTimeout = 10_000
  server.maxConnections = 50
  await new Promise<void>((done, fail) => {
    server.once('error', fail)
    server.listen(port, host, done)
  })
  return {
    port: (server.address() as AddressInfo).port,
    close: () =>
      new Promise((done) => {
        server.close(() => done())
        server.closeAllConnections()
      }),
  }
}
