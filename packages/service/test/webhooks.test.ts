import { describe, expect, test } from '@jest/globals'
import { sql } from 'drizzle-orm'
import { until } from '../../../e2e/harness/programs.ts'
import { createApp, findApp } from '../src/apps/store/apps.ts'
import { whereOf } from '../src/database/scope.ts'
import { claimEntries, dueWebhooks } from '../src/events/outbox.ts'
import { publish } from '../src/events/publish.ts'
import { FairQueue } from '../src/queue/fair-queue.ts'
import { claimNotificationWork } from '../src/sending/store/claim-notification-work.ts'
import { expandPage } from '../src/sending/store/expand-page.ts'
import { createNotification, newNotification } from './scratch-notification.ts'
import {
  app,
  happens,
  heard,
  laterOn,
  listening,
  log,
  logged,
  longAgo,
  one,
  process,
  row,
  save,
  server,
  tellReceivers,
  waiting,
} from './scratch-webhooks.ts'

tellReceivers()

describe('what is told', () => {
  test('stands with what happened: what was rolled back is told nobody', async () => {
    const own = await listening()
    const fact = { kind: 'source.away' as const, subject: 'sailings', data: { n: 1 } }
    await expect(
      app.database.transact(async (tx) => {
        await publish(tx, whereOf(app.scope), ['source.away'], () => [fact])
        throw new Error('it did not happen')
      }),
    ).rejects.toThrow('it did not happen')
    expect(await waiting()).toBe(0)
    await happens()
    await heard(own, 1)
    expect(own.events).toHaveLength(1)
  })

  test('is told by turns of apps: one with many receivers leaves a turn to each of the others', async () => {
    await one.dispatcher.close()
    await createApp(app.database, { slug: 'freight', name: 'Freight', identifiers: {}, createdAt: new Date() })
    const freight = (await findApp(app.database, 'freight'))!
    const names = Array.from({ length: 40 }, (_, n) => `receiver-${n}`)
    for (const name of names) await save({ url: 'http://127.0.0.1:9/' }, name)
    const { no } = await row('receiver-0')
    await app.database.change(sql`update webhooks set app_no = ${freight.no} where no = ${no}`)
    await app.database.change(
      sql`insert into outbox (webhook_no, kind, due_at, created_at, size, body)
          select no, 'event', utc_timestamp(3), utc_timestamp(3), 1, '[]' from webhooks`,
    )
    for (let time = 0; time < 10; time++) {
      const due = await dueWebhooks(app.database, { besides: [], most: 2 })
      expect(due.map(({ appNo }) => appNo).sort()).toEqual([app.scope.app.no, freight.no].sort())
    }
  })

  test('is chosen by kind, by family and by a rule over the event', async () => {
    const all = await listening({}, 'all')
    const family = await listening({ kinds: ['source.*'] }, 'family')
    const one = await listening({ kinds: ['trigger.paused'] }, 'one')
    const few = await listening({ when: 'event.data.no >= 2 && event.type == "source.away"' }, 'few')
    await happens('source.away', 4)
    await happens('trigger.paused')
    await heard(all, 5)
    await heard(family, 4)
    await heard(one, 1)
    await heard(few, 2)
    expect(few.events.map(({ data }) => data.no)).toEqual([2, 3])
    await until(
      () => waiting('few'),
      (left) => left === 0,
    )
    expect(await log('few')).toHaveLength(2)
  })

  test('goes to those of its app and environment, and to nobody else', async () => {
    const own = await listening()
    await app.database.transact((tx) =>
      publish(tx, { appNo: app.scope.app.no, environment: 'production' }, ['source.away'], () => [
        { kind: 'source.away', subject: 'x', data: {} },
      ]),
    )
    await app.database.transact((tx) =>
      publish(tx, { appNo: 99, environment: 'development' }, ['source.away'], () => [
        { kind: 'source.away', subject: 'x', data: {} },
      ]),
    )
    await happens()
    await heard(own, 1)
    expect(own.events.map(({ source }) => source)).toEqual(['/apps/ferries/development'])
  })

  test('is never made where nobody listens', async () => {
    let made = 0
    const facts = () => {
      made++
      return []
    }
    await app.database.transact((tx) => publish(tx, whereOf(app.scope), ['source.away'], facts))
    await listening({ kinds: ['trigger.paused'] })
    await app.database.transact((tx) => publish(tx, whereOf(app.scope), ['source.away'], facts))
    expect(made).toBe(0)
  })

  test('goes in lists where the receiver takes them, together also when it did not happen together', async () => {
    await one.dispatcher.close()
    const own = await listening({ batch: 3 })
    for (let n = 0; n < 4; n++) await happens()
    await happens('source.away', 3)
    process()
    await heard(own, 7)
    expect(own.heard.map(({ events }) => events.length)).toEqual([3, 3, 1])
    expect(own.heard.map(({ headers }) => headers['content-type'])).toEqual(
      Array(3).fill('application/cloudevents-batch+json; charset=utf-8'),
    )
    expect(new Set(own.events.map(({ id }) => id)).size).toBe(7)
    expect(own.unbelieved).toEqual([])
  })

  test('has one id, whoever hears it, and however often', async () => {
    const first = await listening({}, 'first')
    const second = await listening({}, 'second')
    first.answer((_, response) => void response.writeHead(500).end('not now'))
    await happens()
    await heard(second, 1)
    await logged(1, 'first')
    await laterOn()
    await heard(first, 2)
    const ids = [...first.events, ...second.events].map(({ id }) => id)
    expect(new Set(ids).size).toBe(1)
    expect(new Set(first.heard.map(({ headers }) => headers['webhook-id']))).toEqual(new Set([ids[0]]))
    expect(first.heard[0]!.text).toBe(first.heard[1]!.text)
  })
})

describe('a receiver that does not hear', () => {
  test.each([
    ['says 500', 500, 'answered 500'],
    ['says 302', 302, 'answered 302: redirects are not followed'],
    ['says 400', 400, 'answered 400'],
  ])('and %s is asked again, and its log says so', async (_, status, says) => {
    const own = await listening()
    let times = 0
    own.answer((__, response) => {
      times++
      response.writeHead(times === 1 ? status : 200, { location: own.url }).end(times === 1 ? 'because' : 'thanks')
    })
    await happens()
    const [first] = await logged(1)
    expect(first).toMatchObject({ outcome: 'again', status, says, answer: 'because', attempt: 1 })
    expect(await row()).toMatchObject({ fault: says, failures: 1, deliveredAt: null })
    expect(times).toBe(1)
    await laterOn()
    const [, second] = await logged(2)
    expect(second).toMatchObject({ outcome: 'told', status: 200, says: null, answer: 'thanks', attempt: 2 })
    expect(await row()).toMatchObject({ fault: null, faultSince: null, failures: 0 })
    expect(await waiting()).toBe(0)
  })

  test('and hangs up, or never answers, or where nobody listens, is said in words', async () => {
    const hangs = await listening({}, 'hangs')
    hangs.answer((_, __, request) => request.socket.destroy())
    await happens()
    expect((await logged(1, 'hangs'))[0]).toMatchObject({ outcome: 'again', status: null })
    expect((await logged(1, 'hangs'))[0]!.says).toMatch(/^hung up at 127\.0\.0\.1/)
    await one.dispatcher.close()
    const slow = process({ withinMs: 400 })
    const silent = await listening({}, 'silent', slow)
    silent.answer(() => {})
    await save({ url: 'http://127.0.0.1:9/' }, 'nobody')
    await save({ url: 'http://nowhere.invalid/' }, 'nowhere')
    await happens()
    expect((await logged(1, 'silent'))[0]!.says).toMatch(/^did not answer in time at 127/)
    expect((await logged(1, 'nobody'))[0]!.says).toBe('cannot be reached: nothing answers at 127.0.0.1:9')
    // How soon a name is known to be nobody’s is the machine’s affair.
    expect((await logged(1, 'nowhere'))[0]!.says).toMatch(
      /^(?:cannot be reached: there is no address of|did not answer in time at) nowhere\.invalid/,
    )
  })

  test('and never ends its answer has heard: its status counts, and the rest is cut', async () => {
    const own = await listening()
    own.answer((_, response) => {
      response.writeHead(200)
      const drip = setInterval(() => response.write('x'.repeat(20_000)), 5)
      response.once('close', () => clearInterval(drip))
    })
    await happens()
    const [entry] = await logged(1)
    expect(entry).toMatchObject({ outcome: 'told', status: 200 })
    expect(entry!.answer).toHaveLength(2_000)
  })

  test('and leads into a private network is not called, by its address, its name or its certificate’s', async () => {
    const own = await server()
    const { port } = new URL(own.url)
    const { publicOnly } = await import('../src/net/address-guard.ts')
    const strict = process({ guard: publicOnly })
    await expect(save({ url: own.url }, 'app', strict)).rejects.toThrow('is not https')
    await expect(save({ url: `https://127.0.0.1:${port}/` }, 'app', strict)).rejects.toThrow('may not call')
    await expect(save({ url: `https://[::1]:${port}/` }, 'app', strict)).rejects.toThrow('may not call')
    await save({ url: `https://localhost:${port}/` }, 'app', strict)
    await one.dispatcher.close()
    await happens()
    const [entry] = await logged(1)
    expect(entry!.says).toMatch(/^may not be called: localhost leads into a private network; the operator can allow/)
    expect(own.heard).toEqual([])
  })

  test('is left alone for as long as it asks, and what waits is told when it hears again', async () => {
    const own = await listening()
    own.answer((_, response) => void response.writeHead(503, { 'retry-after': '3600' }).end())
    await happens('source.away', 1)
    await logged(1)
    const { backoffUntil } = await row()
    expect(backoffUntil!.getTime() - Date.now()).toBeGreaterThan(3_500_000)
    await happens('source.away', 5)
    own.answer()
    await app.database.change(sql`update webhooks set backoff_until = null`)
    // One of those that came later shows that it hears; then the first, which was to wait an hour, is due as well.
    await heard(own, 7)
    await until(waiting, (left) => left === 0)
  })

  test('costs a single request each time it is looked whether it hears again', async () => {
    await save({ url: 'http://127.0.0.1:9/' })
    await happens('source.away', 500)
    await logged(1)
    for (let n = 0; n < 3; n++) {
      await app.database.change(sql`update webhooks set backoff_until = null`)
      await logged(n + 2)
    }
    const all = await log()
    expect(all.length).toBeLessThanOrEqual(10)
    expect(all.every(({ events }) => events === 1)).toBe(true)
    expect(await waiting()).toBe(500)
  })

  test('is as old in each of its parts as it was, however often it is tried', async () => {
    await save({ url: 'http://127.0.0.1:9/' })
    await happens('source.away', 3)
    await logged(1)
    await longAgo(71)
    await laterOn()
    await logged(2)
    const ages = await app.database.rows<{ hours: number }>(
      sql`select timestampdiff(hour, created_at, utc_timestamp(3)) as hours from outbox`,
    )
    expect(ages.length).toBeGreaterThan(1)
    expect(ages.filter(({ hours }) => hours < 71)).toEqual([])
  })

  test('is given up after three days and not before, and can be told then all the same', async () => {
    const own = await listening()
    own.answer((_, response) => void response.writeHead(500).end())
    await happens()
    await logged(1)
    await longAgo(71)
    await laterOn()
    expect((await logged(2))[1]).toMatchObject({ outcome: 'again', attempt: 2 })
    await longAgo(2)
    await laterOn()
    const [, , last] = await logged(3)
    expect(last).toMatchObject({ outcome: 'given-up', attempt: 3 })
    expect(await waiting()).toBe(0)
    own.answer()
    await app.database.change(sql`update webhooks set backoff_until = null`)
    expect(await one.webhooks.replayEntry(app.scope, 'app', last!.no)).toBe(1)
    expect((await logged(4))[3]).toMatchObject({ outcome: 'told', again: true })
    expect(new Set(own.events.map(({ id }) => id)).size).toBe(1)
  })

  test('and answers 410 is switched off, keeps what waits, and hears on when somebody switches it on', async () => {
    const own = await listening()
    own.answer((_, response) => void response.writeHead(410).end())
    await happens('source.away', 3)
    await until(row, ({ enabled }) => !enabled)
    expect(await row()).toMatchObject({ offBecause: 'answered 410: wants nothing more' })
    expect((await log()).at(-1)).toMatchObject({ outcome: 'unwanted', status: 410 })
    await happens()
    expect(await waiting()).toBe(3)
    own.answer()
    await one.webhooks.enable(app.scope, 'app', true)
    await until(waiting, (left) => left === 0)
    expect(new Set(own.events.map(({ id }) => id)).size).toBe(3)
  })

  test('of a part of a list is told that part alone once more', async () => {
    const own = await listening({ batch: 2 })
    own.answer(({ events }, response) => {
      const isBad = events.some(({ data }) => data.no === 2)
      response.writeHead(isBad ? 500 : 200).end()
    })
    await happens('source.away', 6)
    await until(
      () => log(),
      (all) => all.filter(({ outcome }) => outcome === 'told').length === 2,
    )
    expect(await waiting()).toBe(2)
    own.answer()
    await laterOn()
    await until(waiting, (left) => left === 0)
    expect(own.events.map(({ data }) => data.no).sort()).toEqual([0, 1, 2, 2, 3, 3, 4, 5])
  })
})

describe('many receivers', () => {
  test('wait for none of those that are slow', async () => {
    const slow = await Promise.all(Array.from({ length: 30 }, (_, n) => listening({}, `slow-${n}`)))
    for (const own of slow) own.answer(() => {})
    const good = await listening({}, 'good')
    await happens()
    await heard(good, 1)
    // Nobody has given up on any of them yet.
    for (const name of ['slow-0', 'slow-29']) expect(await log(name)).toEqual([])
    for (let n = 0; n < 5; n++) {
      await happens()
      await heard(good, n + 2)
    }
    expect(good.events).toHaveLength(6)
  })

  test('are told in masses also while something is sent, with pauses, and the others go on', async () => {
    await one.dispatcher.close()
    const busy = process({ isSending: () => true })
    const masses = await listening({ batch: 2_000, kinds: ['source.away'] }, 'masses', busy)
    const few = await listening({ kinds: ['trigger.paused'] }, 'few', busy)
    await happens('source.away', 6_000)
    await happens('trigger.paused')
    await heard(few, 1)
    await heard(masses, 6_000)
    expect(new Set(masses.events.map(({ id }) => id)).size).toBe(6_000)
  })

  test('are each told once by two processes, and what one of them held when it died by the other', async () => {
    const own = await listening({}, 'app', process({ database: app.scratch.another() }))
    await happens('source.away', 300)
    await heard(own, 300)
    await until(waiting, (left) => left === 0)
    expect(own.events).toHaveLength(300)
    await one.dispatcher.close()
    const { no } = await row()
    await app.database.change(sql`update webhooks set enabled = false`)
    await app.database.change(sql`update webhooks set enabled = true, changed_at = utc_timestamp(3)`)
    await app.database.change(sql`update webhooks set backoff_until = utc_timestamp(3) + interval 1 hour`)
    await happens('source.away', 5)
    const claimed = await claimEntries(app.database, no, { most: 100, entries: 100, leaseMs: 60_000, held: [] })
    expect(claimed.reduce((all, { size }) => all + size, 0)).toBe(5)
    await laterOn()
    await new Promise((done) => setTimeout(done, 200))
    expect(own.events).toHaveLength(300)
    await app.database.change(sql`update outbox set leased_until = utc_timestamp(3)`)
    await heard(own, 305)
    expect(new Set(own.events.map(({ id }) => id)).size).toBe(305)
  })
})

describe('the end of a notification', () => {
  const ends = () => app.database.rows(sql`select 1 from outbox`)

  test('that has nobody to reach is told as well', async () => {
    await one.dispatcher.close()
    await save({ url: 'https://office.example/', kinds: ['notification.finished'] })
    const target = { any: ['user:nobody-here'] }
    await createNotification(app.database, app.scope, newNotification({ target }), { leaseMs: 0 })
    expect(await ends()).toHaveLength(1)
  })

  test('that was missed is told as well', async () => {
    await one.dispatcher.close()
    await save({ url: 'https://office.example/', kinds: ['notification.finished'] })
    const due = { at: new Date(Date.now() - 7_200_000), graceSeconds: 60 }
    await createNotification(app.database, app.scope, newNotification({ due }), { leaseMs: 0 })
    const work = await claimNotificationWork(app.database, { leaseMs: 60_000, fair: new FairQueue() })
    await expandPage(app.database, work!.claim, work!.notification, 60_000)
    expect(await ends()).toHaveLength(1)
  })
})
