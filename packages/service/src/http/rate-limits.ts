import type { Response } from 'express'
import { ipKeyGenerator, MemoryStore, type Options } from 'express-rate-limit'
import type { Logger } from 'pino'
import type { Config } from '../config/options.ts'
import { Problem } from '../problems/problem.ts'

/** Who asks, as far as limits go: the address, and the app or the device once it is known. */
export type Counted = { readonly address: string; readonly holder?: string | undefined }
/** @throws {Problem} `too-many-requests` */
export type Limit = (who: Counted, response: Response) => Promise<void>

export type RateLimits = {
  readonly signIns: Limit
  readonly registrations: Limit
  readonly deviceCalls: Limit
  /** Of whoever needs no key. */
  readonly strangers: Limit
}

/** What needs no secret, or one that ships inside an app, is counted for each address, and for each app or device. */
export const rateLimits = (config: Config, log: Logger): RateLimits => ({
  signIns: all([perMinute('sign-ins', 'address', config['limits.signInsPerMinute'], log)]),
  registrations: all([
    perMinute('registrations', 'address', config['limits.registrationsPerMinute'], log),
    perMinute('registrations', 'app', config['limits.registrationsOfAppPerMinute'], log),
  ]),
  strangers: perMinute('calls without a key', 'address', config['limits.deviceCallsPerMinute'], log),
  deviceCalls: all([
    perMinute('calls of devices', 'address', config['limits.deviceCallsPerMinute'], log),
    perMinute('calls of devices', 'device', config['limits.callsOfDevicePerMinute'], log),
  ]),
})

const windowMs = 60_000

const all =
  (limits: readonly Limit[]): Limit =>
  async (who, response) => {
    for (const limit of limits) await limit(who, response)
  }

/** Says in the answer how many are left (draft-ietf-httpapi-ratelimit-headers-07), and in the log when there are none, once. */
function perMinute(what: string, whose: 'address' | 'app' | 'device', limit: number, log: Logger): Limit {
  const store = new MemoryStore()
  store.init({ windowMs } as Options)
  return async ({ address, holder }, response) => {
    // A house has a network of IPv6 addresses, not one.
    const name = whose === 'address' ? ipKeyGenerator(address) : holder
    if (name === undefined) return
    const { totalHits, resetTime } = await store.increment(name)
    const resetSeconds = Math.max(1, Math.ceil(((resetTime?.getTime() ?? 0) - Date.now()) / 1_000))
    if (whose === 'address') {
      response.setHeader('RateLimit-Policy', `${limit};w=${windowMs / 1_000}`)
      const left = Math.max(0, limit - totalHits)
      response.setHeader('RateLimit', `limit=${limit}, remaining=${left}, reset=${resetSeconds}`)
    }
    if (totalHits <= limit) return
    if (totalHits === limit + 1) log.warn({ [whose]: name, limit, what }, 'a limit was reached')
    response.setHeader('Retry-After', String(resetSeconds))
    throw new Problem('too-many-requests', `This ${whose} may do this ${limit} times a minute (${what}).`)
  }
}
