import type { Api, RateLimits } from '../api/index.ts'
import { findAppByNo } from '../apps/index.ts'
import { Problem } from '../base/index.ts'
import { type Database, whereOf } from '../database/index.ts'
import { hashSecret, newSecret } from '../vault/index.ts'
import { calendarOf } from './calendar-feed.ts'
import { feedOfSecret, findFeed, removeFeed, storeFeed } from './store/feeds.ts'

/** What is upcoming as a calendar, behind a secret address: a calendar cannot sign in. */
export function serveFeed(
  api: Api,
  database: Database,
  limits: RateLimits,
  publicUrl: string,
  ownUrl: () => string,
): void {
  api.serve('readFeed', async ({ caller: { scope } }) => {
    const feed = await findFeed(database, whereOf(scope))
    return { madeBy: feed?.madeBy ?? null, madeAt: feed?.madeAt.toISOString() ?? null }
  })

  api.serve('makeFeed', async ({ caller: { scope, actor } }) => {
    const secret = newSecret('calendar')
    await storeFeed(database, whereOf(scope), { secretHash: hashSecret(secret), madeBy: actor })
    return { url: `${publicUrl || ownUrl()}/v1/calendars/${secret}` }
  })

  api.serve('revokeFeed', async ({ caller: { scope } }) => {
    await removeFeed(database, whereOf(scope))
    return undefined
  })

  api.serve(
    'readCalendar',
    async ({ params, response }) => {
      const where = await feedOfSecret(database, hashSecret(params.calendar))
      const app = where && (await findAppByNo(database, where.appNo))
      if (!where || !app) throw new Problem('unknown-address', 'There is no calendar at this address, or not any more.')
      const { text, etag } = await calendarOf(database, { app, environment: where.environment })
      response.setHeader('ETag', etag)
      // It may be kept by whoever subscribed, and is asked for again each time.
      response.setHeader('Cache-Control', 'private, no-cache')
      // Not left to Express, which ignores it beside `Cache-Control: no-cache` (RFC 9110 §13.1.2).
      const had = response.req.get('if-none-match')?.split(',') ?? []
      if (had.some((one) => one.trim().replace(/^W\//, '') === etag)) {
        response.status(304).end()
        return undefined
      }
      response.type('text/calendar; charset=utf-8').setHeader('Content-Disposition', 'inline; filename="upcoming.ics"')
      response.send(text)
      return undefined
    },
    limits.strangers,
  )
}
