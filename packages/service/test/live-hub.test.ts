import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { sql } from 'drizzle-orm'
import { makeLog } from '../src/base/log.ts'
import type { Database } from '../src/database/database.ts'
import type { Scope } from '../src/database/scope.ts'
import { Signals } from '../src/engine/signals.ts'
import { ChangeSender } from '../src/operations/live/change-sender.ts'
import { LiveHub } from '../src/operations/live/hub.ts'
import { type Scratch, scratchApp } from './scratch-database.ts'
import { createNotification, newNotification } from './scratch-notification.ts'

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

const signals = new Signals()

const listening = () => {
  const hub = new LiveHub(database, makeLog('silent'), signals)
  const told: number[] = []
  hub.listen(scope, (change) => {
    if (change.is === 'notification') told.push(change.no)
  })
  signals.emit('change')
  return { hub, told }
}

test('two changes within one millisecond are both told', async () => {
  await createNotification(database, scope, newNotification(), { leaseMs: 0 })
  const { hub, told } = listening()
  await hearing(() => told.length, 1)
  await database.change(sql`update notifications set version = version + 1`)
  signals.emit('change')
  await hearing(() => told.length, 2)
  expect(told[0]).toBe(told[1])
  await hub.close()
})

test('however many change within one moment, each is told, and what comes after them', async () => {
  const columns = await database.rows<{ name: string }>(
    sql`select column_name as name from information_schema.columns where table_schema = database()
          and table_name = 'notifications' and extra = '' and column_name <> 'id'`,
  )
  const others = sql.raw(columns.map(({ name }) => name).join(', '))
  await database.change(
    sql`insert into notifications (id, ${others})
        select unhex(replace(uuid(), '-', '')), ${others} from notifications, seq_1_to_2499`,
  )
  const { hub, told } = listening()
  await hearing(() => new Set(told).size, 2_500)
  const no = told[0]
  await database.change(sql`update notifications set version = version + 1 where no = ${no}`)
  signals.emit('change')
  await hearing(() => told.length, 2_501)
  expect(told.at(-1)).toBe(no)
  await hub.close()
})

test('what could not be read is told once it can be, each change once', async () => {
  const faults: unknown[] = []
  const told: number[] = []
  const sender = new ChangeSender(
    async (no) => {
      if (no === 2 && faults.length === 0) throw new Error('busy')
      told.push(no)
    },
    (fault) => faults.push(fault),
  )
  for (const no of [1, 2, 2, 3]) sender.add(no)
  await hearing(() => told.length, 3)
  expect({ told, faults: faults.length }).toEqual({ told: [1, 3, 2], faults: 1 })
})
