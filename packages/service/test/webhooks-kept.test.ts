import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import type { IncomingMessage, ServerResponse } from 'node:http'
import { createSecureServer, type Http2ServerRequest, type Http2ServerResponse } from 'node:http2'
import { createServer } from 'node:https'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { describe, expect, test } from '@jest/globals'
import { serverCertificate } from '@zbell/standins'
import { sql } from 'drizzle-orm'
import { Webhook } from 'standardwebhooks'
import { until } from '../../../e2e/harness/programs.ts'
import { Database } from '../src/database/database.ts'
import { whereOf } from '../src/database/scope.ts'
import { dueWebhooks } from '../src/events/outbox.ts'
import { rewrapAll } from '../src/operations/rewrap.ts'
import { hasWork } from '../src/queue/read-queue.ts'
import { park, unpark } from '../src/queue/suspend.ts'
import { keptKeyring } from '../src/vault/keyring.ts'
import { Vault } from '../src/vault/vault.ts'
import { boundWebhooks, pruneOverdue } from '../src/webhooks/bound.ts'
import { listLog, pruneLog, replaySpan } from '../src/webhooks/store/log.ts'
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

describe('what waits', () => {
  const bound = (maxWaiting: number, told: object[] = []) =>
    boundWebhooks({ database: app.database, maxWaiting, onWaiting: (all) => told.push(...all) }, () => true)

  test('has a bound, beyond which the oldest go, and the log and the webhook say so', async () => {
    await save({ url: 'http://127.0.0.1:9/', enabled: true })
    await one.dispatcher.close()
    for (let n = 0; n < 30; n++) await happens('source.away', 10)
    const told: object[] = []
    await bound(220, told)
    expect(told).toEqual([{ app: 'ferries', environment: 'development', webhook: 'app', events: 300 }])
    expect(await waiting()).toBe(220)
    expect(await row()).toMatchObject({ dropped: 80 })
    expect((await log()).at(-1)).toMatchObject({
      outcome: 'dropped',
      events: 80,
      says: 'more than 220 events waited; the oldest went',
    })
  })

  test('for one that is switched off goes after three days, and the log says so', async () => {
    await save({ url: 'http://127.0.0.1:9/' })
    await one.dispatcher.close()
    await happens('source.away', 3)
    await one.webhooks.enable(app.scope, 'app', false)
    await happens('source.away', 3)
    expect(await waiting()).toBe(3)
    await longAgo(72)
    await pruneOverdue(app.database, () => true)
    expect(await waiting()).toBe(3)
    await longAgo(2)
    await pruneOverdue(app.database, () => true)
    expect(await waiting()).toBe(0)
    expect((await log()).at(-1)).toMatchObject({
      outcome: 'dropped',
      says: 'it waited for three days, and could not be told',
    })
  })

  test('costs whoever looks for something to tell a look at each receiver, not at each event', async () => {
    await one.dispatcher.close()
    for (const name of ['first', 'second']) await save({ url: 'http://127.0.0.1:9/' }, name)
    for (const name of ['first', 'second']) {
      const { no } = await row(name)
      await app.database.change(
        sql`insert into outbox (webhook_no, kind, due_at, created_at, size, body)
            select ${no}, 'event', utc_timestamp(3), utc_timestamp(3), 1, '[]' from seq_1_to_20000`,
      )
    }
    const database = new Database({ url: app.scratch.url, connections: 1 })
    try {
      const read = async () =>
        (await database.rows<{ Value: string }>(sql`show session status like 'Handler_read%'`)).reduce(
          (sum, { Value }) => sum + Number(Value),
          0,
        )
      await dueWebhooks(database, { besides: [], most: 10 })
      const before = await read()
      expect(await dueWebhooks(database, { besides: [], most: 10 })).toHaveLength(2)
      expect((await read()) - before).toBeLessThan(100)
      expect(await one.webhooks.show(await row('first'))).toMatchObject({ waiting: { events: 20_000, isAll: false } })
    } finally {
      await database.close()
    }
  })

  test('goes with its webhook, and what came in too late as well', async () => {
    await save({ url: 'http://127.0.0.1:9/' })
    await one.dispatcher.close()
    await happens('source.away', 3)
    const { no } = await row()
    await one.webhooks.delete(app.scope, 'app')
    await app.database.change(
      sql`insert into outbox (webhook_no, kind, due_at, created_at, size, body)
          values (${no}, 'event', utc_timestamp(3), utc_timestamp(3), 1, '[]')`,
    )
    await bound(1_000)
    expect(await app.database.rows(sql`select no from outbox`)).toEqual([])
  })

  test('is none of the sending’s: an app that is stopped tells on, and a notification of the same number ends', async () => {
    const own = await listening({}, 'app', process({}, false))
    const { no } = await row()
    await happens()
    expect(await hasWork(app.database, no)).toBe(false)
    await app.database.transact((tx) => park(tx, whereOf(app.scope)))
    one.signals.emit('outbox')
    await heard(own, 1)
    await app.database.transact((tx) => unpark(tx, whereOf(app.scope)))
  })

  test('survives a stop in the middle of a request: it is told once more, and nobody is to blame', async () => {
    const first = process()
    await one.dispatcher.close()
    const own = await listening({}, 'app', first)
    own.answer(() => {})
    await happens()
    await heard(own, 1)
    await first.dispatcher.close()
    expect(await log()).toEqual([])
    expect(await row()).toMatchObject({ fault: null, failures: 0 })
    own.answer()
    process()
    await heard(own, 2)
    expect(new Set(own.events.map(({ id }) => id)).size).toBe(1)
  })
})

describe('the log', () => {
  test('has each request as it went out, byte by byte, until it is too old', async () => {
    const own = await listening()
    await happens()
    const [entry] = await logged(1)
    const { request } = await one.webhooks.entry(await row(), entry!.no)
    expect(request).toMatchObject({ url: own.url, body: own.heard[0]!.text })
    expect(request!.headers['webhook-id']).toBe(own.events[0]!.id)
    await pruneLog(app.database, 14, () => true)
    expect(await log()).toHaveLength(1)
    await app.database.change(sql`update webhook_log set at = at - interval 15 day`)
    await pruneLog(app.database, 14, () => true)
    expect(await log()).toEqual([])
    await expect(one.webhooks.entry(await row(), entry!.no)).rejects.toThrow('There is no entry')
  })

  test('keeps a list of thousands packed, and has it whole', async () => {
    const own = await listening({ batch: 2_000 })
    await happens('source.away', 1_500)
    const [entry] = await logged(1)
    const { request } = await one.webhooks.entry(await row(), entry!.no)
    expect(request!.body).toBe(own.heard[0]!.text)
    const [{ size }] = (await app.database.rows<{ size: number }>(
      sql`select length(body) as size from webhook_log`,
    )) as [{ size: number }]
    expect(size * 5).toBeLessThan(request!.body.length)
  })

  test('is told once more by a span of time, each event once, by outcome and by kind', async () => {
    const own = await listening()
    await happens('source.away', 3)
    await happens('trigger.paused', 2)
    await logged(5)
    const from = new Date(Date.now() - 3_600_000)
    const to = new Date(Date.now() + 60_000)
    const replay = (more: object = {}) => one.webhooks.replaySpan(app.scope, 'app', { from, to, ...more })
    expect(await replay({ kind: 'trigger.paused' })).toEqual({ events: 2, isAll: true })
    await heard(own, 7)
    expect(await replay({ outcome: 'given-up' })).toEqual({ events: 0, isAll: true })
    await logged(7)
    // What was itself told once more is not there twice.
    expect(await replay()).toEqual({ events: 5, isAll: true })
    await heard(own, 12)
    expect(new Set(own.events.map(({ id }) => id)).size).toBe(5)
    expect(await replay({ from: new Date(0), to: new Date(1_000) })).toEqual({ events: 0, isAll: true })
    await expect(replay({ to: from })).rejects.toThrow('is not after')
  })

  test('is looked through by outcome and by time without reading the rest of it', async () => {
    await listening()
    await one.dispatcher.close()
    const { no } = await row()
    await app.database.change(
      sql`insert into webhook_log (webhook_no, at, message, kind, events, attempt, outcome, body)
          select ${no}, utc_timestamp(3) - interval 2 day, seq, 'source.away', 1, 1, 'told', '[{}]' from seq_1_to_20000`,
    )
    await app.database.change(
      sql`insert into webhook_log (webhook_no, at, message, kind, events, attempt, outcome, body)
          values (${no}, utc_timestamp(3), 'last', 'source.away', 1, 1, 'given-up', '[{"id": "last"}]')`,
    )
    const database = new Database({ url: app.scratch.url, connections: 1 })
    try {
      const read = async () =>
        (await database.rows<{ Value: string }>(sql`show session status like 'Handler_read%'`)).reduce(
          (sum, { Value }) => sum + Number(Value),
          0,
        )
      const before = await read()
      expect(await listLog(database, no, { outcome: 'given-up' }, 50)).toHaveLength(1)
      const span = { from: new Date(Date.now() - 3_600_000), to: new Date(Date.now() + 60_000) }
      expect(await replaySpan(database, no, span, 1_000)).toEqual({ events: 1, isAll: true })
      expect((await read()) - before).toBeLessThan(100)
    } finally {
      await database.close()
    }
  })

  test('is told once more by one event of a list', async () => {
    const own = await listening({ batch: 10 })
    await happens('source.away', 4)
    const [entry] = await logged(1)
    const { id } = own.events[2]!
    expect(await one.webhooks.replayEntry(app.scope, 'app', entry!.no, id)).toBe(1)
    await heard(own, 5)
    expect(own.events[4]!.id).toBe(id)
    await expect(one.webhooks.replayEntry(app.scope, 'app', entry!.no, 'x')).rejects.toThrow('is no event of the entry')
    await expect(one.webhooks.replayEntry(app.scope, 'app', 999_999)).rejects.toThrow('There is no entry')
  })
})

describe('secrets and addresses', () => {
  const believes = (secret: string, { headers, text }: { headers: object; text: string }): boolean => {
    try {
      new Webhook(secret).verify(text, headers as Record<string, string>)
      return true
    } catch {
      return false
    }
  }

  test('sign by the old and the new one while one is changed, and by the new one afterwards', async () => {
    const own = await server()
    const { secret: old } = await save({ url: own.url })
    const { secret: fresh, olderUntil } = await one.webhooks.changeSecret(app.scope, 'app', 1)
    expect(fresh).not.toBe(old)
    expect(olderUntil).toHaveLength(1)
    await happens()
    await heard(own, 1)
    expect(own.heard[0]!.headers['webhook-signature']).toMatch(/^v1,\S+ v1,\S+$/)
    expect([believes(old!, own.heard[0]!), believes(fresh!, own.heard[0]!)]).toEqual([true, true])
    const { secret: last } = await one.webhooks.changeSecret(app.scope, 'app', 0)
    await happens()
    await heard(own, 2)
    expect([old!, fresh!, last!].map((secret) => believes(secret, own.heard[1]!))).toEqual([false, false, true])
  })

  test('are not believed by a clock that is off by more than five minutes, nor for another body', async () => {
    const own = await server()
    const { secret } = await save({ url: own.url })
    await happens()
    await heard(own, 1)
    const [request] = own.heard as [(typeof own.heard)[number]]
    expect(believes(secret!, request)).toBe(true)
    expect(believes(secret!, { ...request, text: `${request.text} ` })).toBe(false)
    const at = Number(request.headers['webhook-timestamp'])
    for (const [off, isGood] of [
      [299, true],
      [301, false],
    ] as const) {
      const { Date: now } = globalThis
      const clock = class extends now {
        static override now = () => (at + off) * 1_000
        constructor(...given: [] | [number]) {
          super(...((given.length === 0 ? [(at + off) * 1_000] : given) as [number]))
        }
      }
      globalThis.Date = clock as DateConstructor
      try {
        expect([off, believes(secret!, request)]).toEqual([off, isGood])
      } finally {
        globalThis.Date = now
      }
    }
  })

  test('are sealed, shown without what a query holds, and kept where that says to keep it', async () => {
    const own = await server()
    const url = `${own.url}?token=hush`
    const { secret } = await save({ url })
    const { row: kept, url: shown } = await one.webhooks.show(
      await row().then(() => one.webhooks.require(app.scope, 'app')),
    )
    expect(shown).toBe(`${own.url}?•••`)
    expect(kept.sealed.includes('hush') || kept.sealed.includes(secret!.slice(6))).toBe(false)
    const again = await save({ url: shown!, kinds: ['source.away'] })
    expect(again.secret).toBeUndefined()
    await save({ kinds: ['*'] })
    await happens()
    await heard(own, 1)
    expect(own.heard[0]!.path).toBe('/bell?token=hush')
    await expect(save({ url: 'http://127.0.0.1:9/x?•••' })).rejects.toThrow('hides what is secret of it')
    for (const [wrong, says] of [
      ['x', 'is no address'],
      ['ftp://127.0.0.1/', 'is no https address'],
      ['http://ada:pw@127.0.0.1/', 'says a user'],
      ['http://127.0.0.1/#x', 'behind #'],
    ] as const)
      await expect(save({ url: wrong })).rejects.toThrow(says)
  })

  test('open under a new master key, and say so where no key opens them', async () => {
    const own = await listening()
    const dir = mkdtempSync(join(tmpdir(), 'bell-keys-'))
    try {
      const keyring = keptKeyring(dir)
      const elsewhere = process({ vault: new Vault(keyring) }, false)
      expect((await elsewhere.webhooks.show(await row())).url).toBeNull()
      await expect(elsewhere.webhooks.try(app.scope, 'app', undefined)).rejects.toThrow('no master key opens')
      await one.dispatcher.close()
      elsewhere.dispatcher.start()
      await happens()
      await until(row, ({ fault }) => fault !== null)
      expect((await row()).fault).toBe('has an address that cannot be opened with the master keys that are there')
      await elsewhere.dispatcher.close()
      await laterOn()
      await save({ url: own.url }, 'app', elsewhere)
      const { sealed } = await row()
      expect(await rewrapAll(app.database, new Vault(keyring), keyring)).toMatchObject({ rewrapped: 1 })
      expect((await row()).sealed.equals(sealed)).toBe(false)
      process({ vault: new Vault(keyring) })
      await heard(own, 1)
    } finally {
      rmSync(dir, { recursive: true, force: true })
    }
  })
})

describe('a receiver behind TLS', () => {
  test.each([
    ['HTTP/2', true, '2.0'],
    ['HTTP/1.1', false, '1.1'],
  ])('is told over %s, by a certificate that the webhook trusts and no other', async (_, isHttp2, version) => {
    const dir = mkdtempSync(join(tmpdir(), 'bell-tls-'))
    const { cert, key, caFile } = serverCertificate(dir)
    const versions: string[] = []
    const hear = (
      request: IncomingMessage | Http2ServerRequest,
      response: ServerResponse | Http2ServerResponse,
    ): void => {
      versions.push(request.httpVersion)
      request.resume()
      request.on('end', () => response.writeHead(204).end())
    }
    const secure = isHttp2 ? createSecureServer({ cert, key }, hear) : createServer({ cert, key }, hear)
    await new Promise<void>((done) => secure.listen(0, '127.0.0.1', done))
    const url = `https://127.0.0.1:${(secure.address() as AddressInfo).port}/bell`
    try {
      await save({ url }, 'strange')
      await happens()
      expect((await logged(1, 'strange'))[0]!.says).toMatch(/^shows a certificate at .+ that is not trusted/)
      await save({ url, ca: readFileSync(caFile, 'utf8') }, 'known')
      await happens('source.away', 20)
      await logged(20, 'known')
      expect(new Set(versions)).toEqual(new Set([version]))
      expect((await log('known')).every(({ outcome }) => outcome === 'told')).toBe(true)
    } finally {
      await Promise.all([one.dispatcher.close(), new Promise((done) => secure.close(done))])
      rmSync(dir, { recursive: true, force: true })
    }
  })
})

describe('an example', () => {
  test('is sent at once, marked as one, and shows the request and the answer', async () => {
    const own = await listening({ kinds: ['delivery.*'] })
    own.answer((_, response) => void response.writeHead(202).end('got it'))
    const tried = await one.webhooks.try(app.scope, 'app', undefined)
    expect(tried.entry).toMatchObject({ outcome: 'tried', status: 202, answer: 'got it', kind: 'delivery.accepted' })
    expect(own.events).toMatchObject([{ type: 'delivery.accepted', trial: true }])
    expect(tried.request.body).toBe(own.heard[0]!.text)
    expect(own.unbelieved).toEqual([])
    await one.webhooks.try(app.scope, 'app', 'credential.expiring')
    expect(own.events[1]!.type).toBe('credential.expiring')
    await expect(one.webhooks.try(app.scope, 'app', 'device.retird')).rejects.toThrow('the nearest is device.retired')
    await expect(save({ kinds: ['delivery.shwn'] })).rejects.toThrow('the nearest is delivery.shown')
    await expect(save({ when: 'row.delay > 1' })).rejects.toThrow('“row” is not known here; there are event, now')
  })
})
