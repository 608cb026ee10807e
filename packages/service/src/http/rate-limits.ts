import type { Response } from 'express'
import { ipKeyGenerator, MemoryStore, type Options } from 'express-rate-limit'
import type { Logger } from 'pino'
import type { Limit, RateLimits, ReachedLimit } from '../api/index.ts'
import { type Config, Problem } from '../base/index.ts'
import type { Scope } from '../database/index.ts'

const perMinute = { seconds: 60, says: 'a minute' }
const perHour = { seconds: 3_600, says: 'an hour' }
type Window = typeof perMinute

/** What needs no secret, or one that ships inside an app, is counted for each address, and for each app or device. */
export function rateLimits(config: Config, log: Logger): RateLimits {
  const limit = (
    what: string,
    whose: LimitSubject,
    window: Window,
    max: number,
    onReached?: OnReached,
  ): WeightedLimit => weightedLimit({ what, whose, window, max, log, onReached })
  const reached = new Map<string, ReachedLimit>()
  const what = 'occurrences from devices'
  const maxOfApp = config['limits.occurrencesOfAppPerHour']
  const occurrencesOf = {
    device: limit(what, 'device', perHour, config['limits.occurrencesOfDevicePerHour']),
    address: limit(what, 'address', perHour, config['limits.occurrencesOfAddressPerHour']),
    app: limit(what, 'app', perHour, maxOfApp, (name, untilMs) => {
      const [appNo, environment] = name.split(' ') as [string, Scope['environment']]
      reached.set(name, { appNo: Number(appNo), environment, what, max: maxOfApp, untilMs })
    }),
  }
  const incomingOf = {
    address: limit('incoming webhooks', 'address', perMinute, config['limits.incomingPerMinute']),
    source: limit('incoming webhooks', 'source', perMinute, config['limits.incomingPerMinute']),
  }
  const replays = limit('replays of webhooks', 'app', perMinute, config['limits.replaysPerMinute'])
  const appName = ({ app, environment }: Scope): string => `${app.no} ${environment}`
  return {
    signIns: byCaller([limit('sign-ins', 'address', perMinute, config['limits.signInsPerMinute'])]),
    registrations: byCaller([
      limit('registrations', 'address', perMinute, config['limits.registrationsPerMinute']),
      limit('registrations', 'app', perMinute, config['limits.registrationsOfAppPerMinute']),
    ]),
    strangers: byCaller([limit('calls without a key', 'address', perMinute, config['limits.deviceCallsPerMinute'])]),
    deviceCalls: byCaller([
      limit('calls of devices', 'address', perMinute, config['limits.deviceCallsPerMinute']),
      limit('calls of devices', 'device', perMinute, config['limits.callsOfDevicePerMinute']),
    ]),
    incoming: async (address, source, response) => {
      await incomingOf.address(address, 1, response)
      await incomingOf.source(source, 1, response)
    },
    replays: (scope, response) => replays(appName(scope), 1, response),
    occurrences: async ({ address, deviceNo, scope }, weight, response) => {
      await occurrencesOf.device(String(deviceNo), weight, response)
      await occurrencesOf.address(address, weight, response)
      await occurrencesOf.app(appName(scope), weight, response)
    },
    reached: () => {
      for (const [name, { untilMs }] of reached) if (untilMs <= Date.now()) reached.delete(name)
      return [...reached.values()]
    },
  }
}

type LimitSubject = 'address' | 'app' | 'device' | 'source'
type WeightedLimit = ((name: string, weight: number, response: Response) => Promise<void>) & {
  readonly whose: LimitSubject
}
/** @param untilMs when the window ends */
type OnReached = (name: string, untilMs: number) => void

/** Limits of a caller’s address, and of the app or device that it is. */
const byCaller =
  (limits: readonly WeightedLimit[]): Limit =>
  async ({ address, holder }, response) => {
    for (const limit of limits) {
      const name = limit.whose === 'address' ? address : holder
      if (name !== undefined) await limit(name, 1, response)
    }
  }

/** Says in the answer how many are left (draft-ietf-httpapi-ratelimit-headers-07), and in the log when there are none, once. */
function weightedLimit(given: {
  readonly what: string
  readonly whose: LimitSubject
  readonly window: Window
  readonly max: number
  readonly log: Logger
  readonly onReached: OnReached | undefined
}): WeightedLimit {
  const { what, whose, window, max, log, onReached } = given
  const store = new MemoryStore()
  store.init({ windowMs: window.seconds * 1_000 } as Options)
  const count = async (of: string, weight: number, response: Response): Promise<void> => {
    // A house has a network of IPv6 addresses, not one.
    const name = whose === 'address' ? ipKeyGenerator(of) : of
    let counted = await store.increment(name)
    for (let more = 1; more < weight && counted.totalHits <= max; more++) counted = await store.increment(name)
    const { totalHits, resetTime } = counted
    const untilMs = resetTime?.getTime() ?? 0
    const resetSeconds = Math.max(1, Math.ceil((untilMs - Date.now()) / 1_000))
    if (whose === 'address') {
      response.setHeader('RateLimit-Policy', `${max};w=${window.seconds}`)
      response.setHeader('RateLimit', `limit=${max}, remaining=${Math.max(0, max - totalHits)}, reset=${resetSeconds}`)
    }
    if (totalHits <= max) return
    if (totalHits === max + 1) log.warn({ [whose]: name, limit: max, what }, 'a limit was reached')
    onReached?.(name, untilMs)
    response.setHeader('Retry-After', String(resetSeconds))
    throw new Problem(
      'too-many-requests',
      `This ${whose} may do this ${max.toLocaleString('en')} times ${window.says} (${what}).`,
    )
  }
  return Object.assign(count, { whose })
}
