import { createServer } from 'node:net'
import { freePort } from '@zbell/service'

/** The port when it is free, else another one that is. @param wanted 0 for any */
export async function usablePort(wanted: number): Promise<number> {
  if (wanted === 0) return freePort()
  return new Promise((done) => {
    const probe = createServer()
    probe.once('error', () => done(freePort()))
    probe.listen(wanted, '127.0.0.1', () => probe.close(() => done(wanted)))
  })
}
