import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { Client, ProblemError, type Webhook } from '@zbell/contract'
import { faultProfile, type Handset } from '@zbell/standins'
import { until, zbell } from './harness/programs.ts'
import { AppServer, type HeardEvent } from './harness/receiver.ts'
import { atLength } from './harness/scope.ts'
import { app, params, World } from './harness/world.ts'

let world: World
let client: Client
let server: AppServer
let saved: Webhook
let nora: Handset

beforeAll(async () => {
  // What a service held when it died is soon anybody’s.
  world = await World.open({ ZB_LEASE_MS: '4000' }, { ownDatabase: true })
  client = new Client({ url: world.url, bearer: world.backendKey })
  server = await AppServer.open()
  saved = await save('app', { url: server.url, kinds: ['*'] })
  server.believe(saved.secret ?? '')
})
afterAll(async () => {
  await server.close()
  await world.close()
})

const calm = faultProfile.parse({})
const save = (webhook: string, body: object) =>
  client.call('saveWebhook', { params: { app, webhook }, body: body as never })
const read = (webhook: string) => client.call('readWebhook', { params: { app, webhook } })
const command = (...args: string[]) =>
  zbell(args, { ZBELL_URL: world.url, ZBELL_KEY: world.backendKey, ZBELL_APP: app })
const comes = async (
  type: string,
  isMeant: (event: HeardEvent) => boolean = () => true,
  of: AppServer = server,
): Promise<HeardEvent> => {
  const found = await until(
    () => of.events.filter((event) => event.type === type && isMeant(event)),
    (all) => all.length > 0,
  )
  return found[0]!
}
const ring = async (title: string, more: object = {}) => {
  const content = { title, actions: [{ action: 'rebook', title: 'Rebook' }] }
  const { id } = await client.call('sendNotification', {
    params,
    body: { to: { any: ['user:nora'] }, content, ...more },
  })
  return { id, isOf: ({ data }: HeardEvent) => data.notification === id }
}

describe('the app’s own server is told', () => {
  test('by a secret that is shown once, whose signatures a library of somebody else believes', async () => {
    expect(saved.secret).toMatch(/^whsec_[A-Za-z0-9+/]+=*$/)
    expect((await read('app')).secret).toBeNull()
    nora = await world.standins.registry.make({
      id: 'nora',
      app,
      model: 'Fjordfone',
      platform: 'android',
      user: 'nora',
    })
    const event = await comes('device.registered')
    expect(event).toMatchObject({
      specversion: '1.0',
      source: '/apps/merrow-sound/development',
      datacontenttype: 'application/json',
      data: { platform: 'android', user: 'nora', permission: 'granted', model: 'Fjordfone' },
    })
    expect(event.subject).toBe(event.data.device)
    expect(server.unbelieved).toEqual([])
    const [{ headers }] = server.heard as [(typeof server.heard)[number]]
    expect(headers['content-type']).toBe('application/cloudevents+json; charset=utf-8')
    expect(headers['webhook-id']).toBe(event.id)
    const schema = await (await fetch(event.dataschema as string)).json()
    expect(schema).toMatchObject({ title: 'device.registered', type: 'object' })
  })

  test('of each delivery’s fate, of a button, and of the end', async () => {
    const { id, isOf } = await ring('Kittiwake is late')
    expect(await comes('delivery.accepted', isOf)).toMatchObject({ data: { user: 'nora', platform: 'android' } })
    await comes('delivery.received', isOf)
    await comes('delivery.shown', isOf)
    expect(await comes('notification.finished', isOf)).toMatchObject({ data: { outcome: 'done', devices: 1 } })
    await nora.tap(undefined, 'rebook')
    await comes('delivery.opened', isOf)
    expect(await comes('delivery.action', isOf)).toMatchObject({
      subject: id,
      data: { action: 'rebook', user: 'nora', sentBy: 'key:backend' },
    })
  })

  test('of a permission that was taken back, and of a phone that is gone', async () => {
    await nora.change({ permission: 'denied' })
    expect(await comes('device.permission')).toMatchObject({ data: { user: 'nora', permission: 'denied' } })
    const { isOf } = await ring('Nobody sees this')
    expect(await comes('delivery.skipped', isOf)).toMatchObject({ data: { reason: 'permission-denied' } })
    await nora.change({ permission: 'granted' })
    await comes('device.permission', ({ data }) => data.permission === 'granted')
    world.standins.registry.remove(nora)
    const last = await ring('Is anybody there?')
    expect(await comes('delivery.refused', last.isOf)).toMatchObject({ data: { reason: 'token-gone', user: 'nora' } })
    expect(await comes('device.retired')).toMatchObject({ data: { reason: 'token-gone', platform: 'android' } })
  })

  test('of a credential that is refused, once', async () => {
    await world.standins.registry.make({ id: 'edda', app, model: 'Fjordfone', platform: 'android', user: 'edda' })
    const { android } = world.standins
    android.faultProfile = { ...calm, refusing: true }
    for (const title of ['First', 'Second'])
      await client.call('sendNotification', { params, body: { to: { any: ['user:edda'] }, content: { title } } })
    expect(await comes('credential.rejected')).toMatchObject({
      subject: 'android',
      data: { platform: 'android', says: 'the gateway refused it when something was sent' },
    })
    android.faultProfile = calm
    const { items } = await client.call('listCredentials', { params })
    const { id } = items.find(({ platform, state }) => platform === 'android' && state === 'in-use')!
    await client.call('useCredential', { params: { app, id } })
    await comes('delivery.accepted', ({ data }) => data.user === 'edda')
    expect(server.events.filter(({ type }) => type === 'credential.rejected')).toHaveLength(1)
  })
})

describe('a service that is killed', () => {
  atLength('between an event and its entry loses nothing, and what is told twice has one id', async () => {
    const slow = await AppServer.open()
    try {
      await save('slow', { url: slow.url, kinds: ['device.registered'] })
      // Nothing is answered, so that all of it is under way or waits when the service dies.
      slow.answer(() => {})
      const phone = new Client({ url: world.url, bearer: world.appKey })
      const register = (n: number) =>
        phone.call('registerDevice', {
          body: { platform: 'ios', token: `a-token-of-phone-${n}`, permission: 'granted' },
        })
      const devices = await Promise.all(Array.from({ length: 40 }, (_, n) => register(n)))
      await until(
        () => slow.events,
        (all) => all.length > 0,
      )
      const before = new Map(slow.events.map(({ id, subject }) => [subject, id]))
      await world.killService()
      slow.answer()
      await world.startService()
      const heard = await until(
        () =>
          new Map(slow.heard.slice(before.size).flatMap(({ events }) => events.map((one) => [one.subject, one.id]))),
        (all) => devices.every(({ device }) => all.has(device.id)),
      )
      for (const [subject, id] of before) expect(heard.get(subject)).toBe(id)
      expect(heard.size).toBe(40)
    } finally {
      await client.call('deleteWebhook', { params: { app, webhook: 'slow' } })
      await slow.close()
    }
  })
})

describe('a database that goes away', () => {
  atLength('before a receiver’s answer is stored loses nothing, and what is told twice has one id', async () => {
    const slow = await AppServer.open()
    try {
      await save('slow', { url: slow.url, kinds: ['device.registered'] })
      const held: (() => void)[] = []
      slow.answer((_, response) => void held.push(() => response.writeHead(204).end()))
      const phone = new Client({ url: world.url, bearer: world.appKey })
      const register = (n: number) =>
        phone.call('registerDevice', { body: { platform: 'ios', token: `a-token-of-pad-${n}`, permission: 'granted' } })
      const devices = await Promise.all(Array.from({ length: 10 }, (_, n) => register(n)))
      await until(
        () => held.length,
        (count) => count > 0,
      )
      await world.ownDatabase.stop()
      slow.answer()
      for (const answer of held) answer()
      await world.ownDatabase.start()
      const heard = await until(
        () => slow.events,
        (all) => devices.every(({ device }) => all.some(({ subject }) => subject === device.id)),
      )
      expect(new Set(heard.map(({ id }) => id)).size).toBe(10)
      await until(
        () => read('slow'),
        ({ waiting }) => waiting === 0,
      )
    } finally {
      await client.call('deleteWebhook', { params: { app, webhook: 'slow' } })
      await slow.close()
    }
  })
})

describe('over HTTP', () => {
  test('what cannot be used is refused with its place', async () => {
    const faults = async (body: object, name = 'bad') => {
      const error = await save(name, body).catch((one: unknown) => one)
      if (!(error instanceof ProblemError)) throw new Error('it was taken')
      return [error.problem.code, error.problem.errors?.[0]?.pointer]
    }
    const good = { url: server.url, kinds: ['*'] }
    expect(await faults({ kinds: ['*'] })).toEqual(['invalid-request', '/url'])
    expect(await faults({ ...good, kinds: [] })).toEqual(['invalid-request', '/kinds'])
    expect(await faults({ ...good, kinds: ['*', 'device.gone'] })).toEqual(['invalid-request', '/kinds/1'])
    expect(await faults({ ...good, when: 'event.' })).toEqual(['invalid-request', '/when'])
    expect(await faults({ ...good, batch: 2_001 })).toEqual(['invalid-request', '/batch'])
    expect(await faults(good, 'Not A Name')).toEqual(['invalid-request', '/webhook'])
    for (const call of [
      () => client.call('readWebhook', { params: { app, webhook: 'nobody' } }),
      () => client.call('readWebhookRequest', { params: { app, webhook: 'app', entry: '0' } }),
    ])
      await expect(call()).rejects.toMatchObject({ problem: { status: 404 } })
  })

  test('kinds are listed with an example, to anybody, a family of them too', async () => {
    const { items } = await new Client({ url: world.url, bearer: '' }).call('listEventKinds', {
      query: { kind: 'credential.*' },
    })
    expect(items.map(({ kind }) => kind)).toEqual(['credential.rejected', 'credential.expiring'])
    expect(items[0]!.example).toMatchObject({ type: 'credential.rejected' })
    expect((await fetch(`${world.url}/v1/event-kinds/nonsense/schema`)).status).toBe(404)
  })

  test('Health and the metrics say who does not hear', async () => {
    await save('deaf', { url: 'http://127.0.0.1:9/', kinds: ['device.registered'] })
    await world.standins.registry.make({ id: 'iria', app, model: 'Fjordfone', platform: 'android', user: 'iria' })
    await until(
      () => read('deaf'),
      ({ fault }) => fault !== null,
    )
    const { troubles } = await client.call('readHealth', { params })
    expect(troubles.map(({ detail }) => detail)).toContain(
      'The webhook deaf is failing: its receiver cannot be reached: nothing answers at 127.0.0.1:9.',
    )
    const metrics = await world.metrics()
    expect(metrics).toMatch(/zbell_webhook_requests_total\{outcome="told"\} \d+/)
    expect(metrics).toMatch(/zbell_webhook_requests_total\{outcome="again"\} \d+/)
    await client.call('deleteWebhook', { params: { app, webhook: 'deaf' } })
  })
})

describe('zbell webhook', () => {
  test('saves, shows, tries, and shows the log and one request', async () => {
    const { writeFileSync } = await import('node:fs')
    const file = `${world.data}/office.yaml`
    writeFileSync(file, `webhook: office\nurl: ${server.url}?token=hush\nkinds: [trigger.*]\n`)
    const made = await command('webhook', 'save', file)
    expect(made.out).toMatch(/# its secret, shown this once: whsec_/)
    expect(made.out).not.toContain('hush')
    server.believe(saved.secret ?? '', /whsec_\S+/.exec(made.out)?.[0] ?? '')
    expect((await command('webhook', 'list')).out).toMatch(/^office\s+working\s+trigger\.\*/m)
    const tried = await command('webhook', 'try', 'office')
    expect(tried).toMatchObject({ code: 0 })
    expect(tried.out).toContain('"type": "trigger.paused"')
    expect(tried.out).toMatch(/^204 after \d+ ms$/m)
    const log = await command('webhook', 'log', 'office')
    expect(log.out).toMatch(/trigger\.paused\s+1\s+tried by hand\s+1\s+204/)
    const [, entry = ''] = /^(\d+)\s/m.exec(log.out) ?? []
    expect((await command('webhook', 'log', 'office', '--entry', entry)).out).toContain('"trial": true')
    expect((await command('webhook', 'kinds')).out).toMatch(/^device\.retired\s+A device cannot be rung any more/m)
    expect(server.unbelieved).toEqual([])
  })

  test('changes the secret, switches off and on, tells once more, and deletes', async () => {
    const changed = await command('webhook', 'secret', 'office', '--keep', '2')
    expect(changed.out).toMatch(/# the secret before signs too, until /)
    expect((await command('webhook', 'disable', 'office')).out).toBe('office is off.\n')
    expect((await command('webhook', 'list')).out).toMatch(/^office\s+off/m)
    expect((await command('webhook', 'enable', 'office')).out).toBe('office is on.\n')
    expect((await command('webhook', 'replay', 'office')).err).toContain('--entry NUMBER, or --from TIME')
    expect((await command('webhook', 'replay', 'office', '--from', 'yesterday')).err).toContain('how long ago')
    expect((await command('webhook', 'replay', 'office', '--from', '1h')).out).toContain('There is nothing')
    expect((await command('webhook', 'replay', 'app', '--from', '1h', '--kind', 'device.retired')).out).toMatch(
      /^\d+ events? will be replayed/,
    )
    expect((await command('webhook', 'delete', 'office')).out).toBe('office is gone.\n')
    expect((await command('webhook', 'show', 'office')).code).toBe(5)
  })
})
