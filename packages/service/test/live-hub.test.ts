import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { sql } from 'drizzle-orm'
import { LiveHub } from '../src/live/hub.ts'
import type { Scope } from '../src/store/apps/apps.ts'
import type { Database } from '../src/store/database.ts'
import { createNotification } from '../src/store/notifications/create-notification.ts'
import { makeLog } from '../src/telemetry/log.ts'
import { type Scratch, scratchApp } from './scratch-database.ts'
import { newNotification } from './scratch-notification.ts'

let scratch: Scratch
let database: Database
let scope: Scope
beforeAll(async () => {
  ;({ scratch, database, scope } = await scratchApp())
})
afterAll(() => scratch.close())

const hearing = async (heard: () => number, count: number) => {
  for (const endMs = Date.now() + 60_000; heard() < count && Date.now() < endMs; )
    await new Promise((done) => setTimeout(done, 20))
  expect(heard()).toBe(count)
}

test('two changes within one millisecond are both told', async () => {
  await createNotification(database, scope, newNotification(), { leaseMs: 0 })
  const hub = new LiveHub(database, makeLog('silent'))
  const states: string[] = []
  const stop = hub.listen(scope, (change) => {
    if (change.is === 'notification') states.push(change.row.state)
  })
  hub.nudge()
  await hearing(() => states.length, 1)
  await database.change(sql`update notifications set state = 'finished', version = version + 1`)
  hub.nudge()
  await hearing(() => states.length, 2)
  expect(states).toEqual(['expanding', 'finished'])
  stop()
  hub.close()
})
