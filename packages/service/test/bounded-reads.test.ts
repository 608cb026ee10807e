import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { sql } from 'drizzle-orm'
import { Abandoned, TooSlow } from '../src/database/errors.ts'
import { type Scratch, scratchDatabase } from './scratch-database.ts'

let scratch: Scratch
beforeAll(async () => {
  scratch = await scratchDatabase()
})
afterAll(() => scratch.close())

/** Of `scratchDatabase`. */
const connections = 8
/** Looks through ten thousand million rows, unless it is stopped; unlike `sleep`, it fails when that happens. */
const endless = sql`select count(*) as n from seq_1_to_100000 a join seq_1_to_100000 b where a.seq + b.seq < 0`
const running = async () => {
  const [row] = await scratch.database.rows<{ n: number }>(
    sql`select count(*) as n from information_schema.processlist where info like '%seq_1_to_100000 a join%' and id <> connection_id()`,
  )
  return row!.n
}
const untilRunning = async (wanted: number) => {
  while ((await running()) !== wanted) await new Promise((go) => setTimeout(go, 20))
}

test('a question that takes too long is stopped in the database, and said to be too slow', async () => {
  await expect(scratch.database.bounded({ withinMs: 100 }).rows(endless)).rejects.toThrow(TooSlow)
  expect(await running()).toBe(0)
})

test('a question that nobody waits for any more is stopped in the database', async () => {
  const stop = new AbortController()
  const asked = scratch.database.bounded({ withinMs: 600_000, signal: stop.signal }).rows(endless)
  asked.catch(() => {})
  await untilRunning(1)
  stop.abort()
  await expect(asked).rejects.toThrow(Abandoned)
  await untilRunning(0)
})

test('however many take long, half of the connections are there for all else; who leaves the line is never asked for', async () => {
  const stop = new AbortController()
  const reader = scratch.database.bounded({ withinMs: 600_000, signal: stop.signal })
  const asked = Promise.allSettled(Array.from({ length: connections * 3 }, () => reader.rows(endless)))
  await untilRunning(connections / 2)
  for (let i = 0; i < 20; i++) expect(await scratch.database.rows(sql`select 1 as one`)).toEqual([{ one: 1 }])
  expect(await running()).toBe(connections / 2)
  stop.abort()
  for (const one of await asked) expect(one).toMatchObject({ status: 'rejected', reason: expect.any(Abandoned) })
  expect(await running()).toBe(0)
})
