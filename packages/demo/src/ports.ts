import { createServer } from 'node:net'

/** The port when it is free, else another one that is. */
export function usablePort(wanted: number): Promise<number> {
  return new Promise((done) => {
    const probe = createServer()
    probe.once('error', () => done(usablePort(0)))
    probe.listen(wanted, '127.0.0.1', () => {
      const address = probe.address()
      probe.close(() => done(typeof address === 'object' && address ? address.port : 0))
    })
  })
}
