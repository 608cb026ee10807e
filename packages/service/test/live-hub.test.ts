import { randomBytes } from 'node:crypto'
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { uuidV7 } from '@zbell/core'
import { LiveHub } from '../src/live/hub.ts'
import type { Scope } from '../src/store/apps/apps.ts'
import type { Database } from '../src/store/database.ts'
import { createNotification } from '../src/store/notifications/create-notification.ts'
import { makeLog } from '../src/telemetry/log.ts'
import { type Scratch, scratchApp } from './scratch-database.ts'

let scratch: Scratch
let database: Database
let scope: Scope
beforeAll(async () => {
  ;({ scratch, database, scope } = await scratchApp())
}, 60_000)
afterAll(() => scratch.close())

const hearing = async (heard: () => number, count: number) => {
  for (const endMs = Date.now() + 5_000; heard() < count && Date.now() < endMs; )
    await new Promise((done) => setTimeout(done, 20))
  expect(heard()).toBe(count)
}

test('two changes within one millisecond are both told', async () => {
  const now = new Date()
  const id = uuidV7(now.getTime(), randomBytes(10))
  await createNotification(
    database,
    scope,
    {
      id,
      target: { any: ['everyone'] },
      content: { title: 'T' },
      name: null,
      template: null,
      filling: {},
      spreadSeconds: 0,
      paused: false,
      urgency: 'normal',
      mode: 'show',
      ttlSeconds: 60,
      sentBy: 'operator',
      idempotencyHash: null,
      requestHash: randomBytes(32),
      createdAt: now,
      expiresAt: new Date(now.getTime() + 60_000),
    },
    { leaseMs: 0 },
  )
  const hub = new LiveHub(database, makeLog('silent'))
  const states: string[] = []
  const stop = hub.listen(scope, (change) => {
    if (change.is === 'notification') states.push(change.row.state)
  })
  hub.nudge()
  await hearing(() => states.length, 1)
  await database.change("update notifications set state = 'finished', version = version + 1")
  hub.nudge()
  await hearing(() => states.length, 2)
  expect(states).toEqual(['expanding', 'finished'])
  stop()
  hub.close()
})
