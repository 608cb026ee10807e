import { afterAll, beforeAll, beforeEach, expect, test } from '@jest/globals'
import { sql } from 'drizzle-orm'
import { makeLog } from '../src/base/log.ts'
import { type BackgroundJob, BackgroundJobs } from '../src/operations/background-jobs.ts'
import { declareJob, listJobs } from '../src/operations/store/jobs.ts'
import { type ScratchApp, scratchApp } from './scratch-database.ts'

let app: ScratchApp
beforeAll(async () => {
  app = await scratchApp()
})
afterAll(() => app.scratch.close())
beforeEach(() => app.database.change(sql`delete from jobs`))

/** Short enough to run out in a test, long enough to be renewed on a machine that is busy. */
const leaseMs = 1_500 * Number(process.env.TEST_PACE ?? 1)
const ran: string[] = []
const events = { onRun: (name: string, _tookMs: number, failed: boolean) => void ran.push(`${name} ${failed}`) }
/** As another process would have it. */
const newProcess = () => new BackgroundJobs(app.scratch.another(), makeLog('silent'), events, leaseMs)
/** It is there, and nobody looks after it but who is told to. */
const declare = ({ name, everySeconds }: BackgroundJob) => declareJob(app.database, name, everySeconds)
const due = () => app.database.change(sql`update jobs set due_at = utc_timestamp(3)`)
const only = async () => (await listJobs(app.database))[0]!

function counting(everySeconds = 60) {
  const runs = { count: 0 }
  const job: BackgroundJob = {
    name: 'tidy',
    everySeconds,
    run: async () => {
      runs.count++
    },
  }
  return { job, runs }
}

test('of several processes one runs a job that is due, and nobody again before its interval is over', async () => {
  const { job, runs } = counting()
  const all = [newProcess(), newProcess(), newProcess()]
  await declare(job)
  const took = await Promise.all(Array.from({ length: 12 }, (_, i) => all[i % 3]!.runIfDue(job)))
  expect(took.filter(Boolean)).toHaveLength(1)
  expect(runs.count).toBe(1)
  await due()
  expect(await all[1]!.runIfDue(job)).toBe(true)
  for (const one of all) await one.close()
})

test('the next run is due an interval after this one, a tenth more or less', async () => {
  const { job } = counting(1_000)
  const one = newProcess()
  await declare(job)
  await due()
  await one.runIfDue(job)
  const [row] = await app.database.rows<{ s: number }>(
    sql`select timestampdiff(second, started_at, due_at) as s from jobs`,
  )
  expect(row!.s).toBeGreaterThanOrEqual(899)
  expect(row!.s).toBeLessThanOrEqual(1_100)
  await one.close()
})

test('a run that takes longer than its lease keeps it for as long as it works', async () => {
  const [mine, other] = [newProcess(), newProcess()]
  let may: () => boolean = () => false
  let end: () => void = () => {}
  const ended = new Promise<void>((done) => {
    end = done
  })
  const long: BackgroundJob = {
    name: 'tidy',
    everySeconds: 1,
    run: (mayGoOn) => {
      may = mayGoOn
      return ended
    },
  }
  const { job: short, runs } = counting(1)
  const heldUntilMs = async () => {
    const [row] = await app.database.rows<{ at: Date | null }>(sql`select until_at as at from jobs`)
    return row?.at?.getTime() ?? 0
  }
  await declare(long)
  await due()
  const running = mine.runIfDue(long)
  let firstMs = 0
  for (let untilMs = 0; firstMs === 0 || untilMs < firstMs + leaseMs; untilMs = await heldUntilMs()) {
    if (may()) firstMs ||= untilMs
    await due()
    if (firstMs > 0) expect(await other.runIfDue(short)).toBe(false)
    await new Promise((done) => setTimeout(done, 50))
  }
  expect(may()).toBe(true)
  end()
  expect(await running).toBe(true)
  expect(runs.count).toBe(0)
  await Promise.all([mine.close(), other.close()])
})

test('a process that could not show for a whole lease that it is alive does nothing more', async () => {
  const one = newProcess()
  const said: boolean[] = []
  const held: BackgroundJob = {
    name: 'tidy',
    everySeconds: 60,
    run: async (mayGoOn) => {
      said.push(mayGoOn())
      // As a machine that sleeps: no timer runs, and nothing is renewed.
      for (const untilMs = performance.now() + leaseMs; performance.now() < untilMs; );
      said.push(mayGoOn())
    },
  }
  await declare(held)
  await due()
  expect(await one.runIfDue(held)).toBe(true)
  expect(said).toEqual([true, false])
  await one.close()
})

test('a process that died with a job is followed by another once the lease has run out, and would do nothing more', async () => {
  const { job, runs } = counting()
  const one = newProcess()
  await declare(job)
  await app.database.change(
    sql`update jobs set owner = repeat('x', 16), due_at = utc_timestamp(3), until_at = utc_timestamp(3) + interval 1 hour`,
  )
  expect(await one.runIfDue(job)).toBe(false)
  await app.database.change(sql`update jobs set until_at = utc_timestamp(3)`)
  expect(await one.runIfDue(job)).toBe(true)
  expect(runs.count).toBe(1)
  await one.close()
})

test('a run that lost its lease learns of it', async () => {
  const one = newProcess()
  let may = true
  const job: BackgroundJob = {
    name: 'tidy',
    everySeconds: 60,
    run: async (mayGoOn) => {
      await app.database.change(sql`update jobs set owner = repeat('y', 16)`)
      while (mayGoOn()) await new Promise((done) => setTimeout(done, 20))
      may = mayGoOn()
    },
  }
  await declare(job)
  await due()
  await one.runIfDue(job)
  expect(may).toBe(false)
  // Whose it is now has not finished: nothing was written over it.
  expect(await only()).toMatchObject({ finishedAt: null })
  await one.close()
})

test('how the last run went is there for all to see: failures in a row, and the words of the last', async () => {
  const one = newProcess()
  let fails = true
  const job: BackgroundJob = {
    name: 'tidy',
    everySeconds: 60,
    run: async () => {
      if (fails) throw new Error('the pier is closed')
    },
  }
  await declare(job)
  for (let i = 0; i < 2; i++) {
    await due()
    await one.runIfDue(job)
  }
  expect(await only()).toMatchObject({ name: 'tidy', failures: 2, error: 'the pier is closed', lateSeconds: 0 })
  fails = false
  await due()
  await one.runIfDue(job)
  expect(await only()).toMatchObject({ failures: 0, error: null, runBy: expect.stringContaining(':') })
  expect(ran.slice(-3)).toEqual(['tidy true', 'tidy true', 'tidy false'])
  await one.close()
})

test('jobs are looked after by themselves from the start', async () => {
  const { job, runs } = counting(1)
  const one = newProcess()
  await one.start([job])
  while (runs.count < 2) await new Promise((done) => setTimeout(done, 50))
  await one.close()
})
