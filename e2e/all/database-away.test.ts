import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { ProblemError } from '@zbell/contract/client'
import { until } from '../harness/programs.ts'
import { params, World } from '../harness/world.ts'

let world: World
beforeAll(async () => {
  world = await World.open({ ZB_LEASE_MS: '1000', ZB_IN_FLIGHT: '5' }, { ownDatabase: true })
})
afterAll(() => world.close())

const problemOf = async (call: Promise<unknown>): Promise<unknown> => {
  try {
    return await call
  } catch (error) {
    return error instanceof ProblemError ? error.problem : error
  }
}

test('without its database the service says so, lives, and goes on by itself; what it acknowledged is there', async () => {
  for (let n = 0; n < 40; n++) await world.handset(n, n % 2 ? 'ios' : 'android', { user: 'crew' })
  world.standins.ios.faultProfile = { ...world.standins.ios.faultProfile, delayMs: 150 }
  world.standins.android.faultProfile = { ...world.standins.android.faultProfile, delayMs: 150 }
  const running = await world.send({ to: { any: ['user:crew'] }, content: { title: 'Under way' } })
  await until(
    () => world.standins.ios.books.taken,
    (count) => count > 3,
  )
  await world.ownDatabase.stop()

  expect(await problemOf(world.backend.call('listNotifications', { params }))).toMatchObject({
    status: 503,
    code: 'database-unavailable',
  })
  expect(await problemOf(world.send({ to: { any: ['everyone'] }, content: { title: 'Too early' } }))).toMatchObject({
    status: 503,
  })
  expect((await fetch(`${world.url}/livez`)).status).toBe(200)
  const notReady = await fetch(`${world.url}/readyz`)
  expect([notReady.status, notReady.headers.get('content-type'), notReady.headers.get('retry-after')]).toEqual([
    503,
    'application/problem+json; charset=utf-8',
    '2',
  ])
  // Long enough for its leases to run out.
  await new Promise((done) => setTimeout(done, 2_500))
  expect(world.serviceLives).toBe(true)

  await world.ownDatabase.start()
  const { totals } = await until(
    () => problemOf(world.notification(running)) as Promise<Awaited<ReturnType<World['notification']>>>,
    (one) => one.totals?.shown === 40,
  )
  expect(totals.expanded).toBe(40)
  // The process lived all the time: not one request was made twice.
  expect(world.standins.ios.books.taken + world.standins.android.books.taken).toBe(40)
  const next = await world.send({ to: { any: ['everyone'] }, content: { title: 'On again' } })
  await until(
    () => world.notification(next),
    (one) => one.totals.shown === 40,
  )
})

test('without room it says that, too, and goes on when there is some', async () => {
  // A table that lives in memory meets its limit as one on a full disk does: with the same error of the server.
  await world.changeDirectly('alter table topics drop foreign key topics_app_no_apps_no_fk')
  await world.changeDirectly('set statement max_heap_table_size = 16384 for alter table topics engine = memory')
  const declare = (topic: string) =>
    problemOf(world.backend.call('declareTopic', { params: { ...params, topic }, body: { title: 'T' } }))
  let answer: unknown
  for (let n = 0; n < 500 && !(answer as { status?: number } | undefined)?.status; n++)
    answer = await declare(`route-${n}`)
  expect(answer).toMatchObject({ status: 507, code: 'storage-full', remedy: expect.stringContaining('Make room') })
  expect((await fetch(`${world.url}/readyz`)).status).toBe(200)
  await world.changeDirectly('alter table topics engine = innodb')
  expect(await declare('route-with-room')).toMatchObject({ topic: 'route-with-room' })
})

test('what gateways answered is kept until there is room for it', async () => {
  const answers = 'gateway_answers'
  const filler = "(0, unhex(left(md5(rand()), 12)), 'https://gateway.example', null, 200, '')"
  await world.changeDirectly(`set statement max_heap_table_size = 16384 for alter table ${answers} engine = memory`)
  try {
    for (let n = 0; n < 1_000; n++) await world.changeDirectly(`insert into ${answers} values ${filler}`)
  } catch (error) {
    expect(error).toMatchObject({ code: 'ER_RECORD_FILE_FULL' })
  }
  const before = world.standins.ios.books.taken + world.standins.android.books.taken
  const taken = () => world.standins.ios.books.taken + world.standins.android.books.taken - before
  const id = await world.send({ to: { any: ['user:crew'] }, content: { title: 'No room yet' } })
  await until(taken, (count) => count === 40)
  await new Promise((done) => setTimeout(done, 1_500))
  expect((await world.notification(id)).totals).toMatchObject({ expanded: 40, queued: 40 })

  await world.changeDirectly(`delete from ${answers} where notification_no = 0`)
  await world.changeDirectly(`alter table ${answers} engine = innodb`)
  const { totals } = await until(
    () => world.notification(id),
    (one) => one.state === 'finished' && one.totals.shown === 40,
  )
  expect(totals).toMatchObject({ expanded: 40 })
  expect(taken()).toBe(40)
})
