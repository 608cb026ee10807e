import type { RequestHandler } from 'express'
import { rateLimit } from 'express-rate-limit'
import type { Config } from '../config/options.ts'
import { Problem } from '../problems/problem.ts'

export type RateLimits = {
  readonly signIns: RequestHandler
  readonly registrations: RequestHandler
  readonly deviceCalls: RequestHandler
}

/** One limit a route and calling address; the routes that need no secret, or one that ships inside an app, have one. */
export const rateLimits = (config: Config): RateLimits => ({
  signIns: perMinute(config['limits.signInsPerMinute']),
  registrations: perMinute(config['limits.registrationsPerMinute']),
  deviceCalls: perMinute(config['limits.deviceCallsPerMinute']),
})

const perMinute = (limit: number): RequestHandler =>
  rateLimit({
    windowMs: 60_000,
    limit,
    // The later draft names each caller by a hash, made anew for each answer.
    standardHeaders: 'draft-7',
    legacyHeaders: false,
    handler: (_request, _response, next) =>
      next(new Problem('too-many-requests', `This address may do this ${limit} times a minute.`)),
  })
