import type { Stop } from '@zbell/contract'
import { isUserName } from '@zbell/core'
import type { QuietWindow } from '@zbell/core/policy'
import type { Api, RateLimits } from '../api/index.ts'
import { Problem } from '../base/index.ts'
import { type Database, whereOf } from '../database/index.ts'
import { ensurePersonOf, ensureUser } from '../devices/index.ts'
import { requireUser } from '../people/index.ts'
import { quietHoursOf, storeQuietHours } from '../policy/index.ts'
import type { Stopped, Stops } from './stops.ts'
import { wakePerson } from './store/wake-person.ts'

/** The stop of an app, and people’s own quiet hours. */
export function serveStops(api: Api, database: Database, stops: Stops, limits: RateLimits, onChange: () => void): void {
  api.serve('readStop', async ({ caller: { scope } }) => stopView(await stops.read(scope)))
  api.serve('stopApp', async ({ caller: { scope, actor }, body }) => {
    const stopped = await stops.stop(scope, { reason: body.reason, by: actor })
    onChange()
    return stopView(stopped)
  })
  api.serve('startApp', async ({ caller: { scope }, body }) => {
    const started = await stops.start(scope, body.ring)
    onChange()
    return stopView(started)
  })

  api.serve('readQuietHours', async ({ caller: { scope }, params }) =>
    quietView(database, (await requireUser(database, scope, params.user)).no),
  )
  api.serve('saveQuietHours', async ({ caller: { scope }, params, body }) => {
    if (!isUserName(params.user)) throw new Problem('unknown-user', 'This cannot be the name of a user.')
    const userNo = await database.transact(async (tx) => {
      const person = await ensureUser(tx, scope, params.user)
      await storeQuietHours(tx, whereOf(scope), person, body.quietHours as QuietWindow[])
      return person
    })
    await wakePerson(database, whereOf(scope), userNo, looked.byOwner)
    return quietView(database, userNo)
  })

  api.serve(
    'readOwnQuietHours',
    async ({ caller: { device } }) => quietView(database, device.userNo ?? 0),
    limits.deviceCalls,
  )
  api.serve(
    'saveOwnQuietHours',
    async ({ caller: { scope, device }, body }) => {
      const userNo = await database.transact(async (tx) => {
        const person = await ensurePersonOf(tx, scope, device.no)
        await storeQuietHours(tx, whereOf(scope), person, body.quietHours as QuietWindow[])
        return person
      })
      await wakePerson(database, whereOf(scope), userNo, looked.byDevice)
      return quietView(database, userNo)
    },
    limits.deviceCalls,
  )
}

/** So many pieces of work are looked through for somebody whose quiet hours were changed; any device may change its own. */
const looked = { byOwner: 20_000, byDevice: 1_000 }

const quietView = async (database: Database, userNo: number) => ({
  quietHours: ((await quietHoursOf(database, [userNo])).get(userNo) ?? []) as (QuietWindow & { days?: never })[],
})

const stopView = ({ stopped, waiting }: Stopped): Stop => ({
  stopped: stopped && {
    reason: stopped.reason,
    stoppedBy: stopped.stoppedBy,
    stoppedAt: stopped.stoppedAt.toISOString(),
  },
  waiting: waiting.map(({ id, name, title, sentBy, devices }) => ({ notification: id, name, title, sentBy, devices })),
})
