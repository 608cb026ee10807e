import { request } from 'node:http'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { type Operation, operations, type ProblemBody, routes } from '@zbell/contract'
import { app, params, World } from '../harness/world.ts'

let world: World
let otherKey: string
let productionKey: string
let secret: string
beforeAll(async () => {
  world = await World.open()
  await world.handset(1, 'ios', { user: 'ada' })
  await world.makeApp('gull-air')
  otherKey = await world.makeKey('gull-air', 'backend')
  productionKey = await world.makeKey(app, 'backend', 'production')
  const made = await call('POST', '/v1/devices', world.appKey, {
    platform: 'ios',
    token: 'a-token-of-forty-characters-exactly-0001',
  })
  secret = (made.body as unknown as { secret: string }).secret
})
afterAll(() => world.close())

type Answer = { status: number; type: string | null; body: ProblemBody }

async function call(
  method: string,
  path: string,
  bearer: string | undefined,
  body?: unknown,
  headers: Record<string, string> = {},
): Promise<Answer> {
  const answer = await fetch(world.url + path, {
    method,
    headers: {
      ...(bearer ? { authorization: `Bearer ${bearer}` } : {}),
      ...(body === undefined ? {} : { 'content-type': 'application/json' }),
      ...headers,
    },
    ...(body === undefined ? {} : { body: typeof body === 'string' ? body : JSON.stringify(body) }),
  })
  const text = await answer.text()
  return {
    status: answer.status,
    type: answer.headers.get('content-type'),
    body: (text ? JSON.parse(text) : {}) as ProblemBody,
  }
}

const notifications = `/v1/apps/${app}/notifications`
const good = { to: { any: ['user:ada'] }, content: { title: 'T' } }
const send = (body: unknown, bearer = world.backendKey, headers = {}) =>
  call('POST', notifications, bearer, body, headers)
const placesOf = ({ body }: Answer) => body.errors?.map(({ pointer }) => pointer)

describe('what cannot be used is refused where it stands, and changes nothing', () => {
  let before: unknown
  const state = async () => [
    (await world.backend.call('listNotifications', { params })).items.length,
    (await world.backend.call('listDevices', { params })).items.map(({ id, seenAt: _, ...device }) => ({
      id,
      ...device,
    })),
  ]
  beforeAll(async () => {
    before = await state()
  })
  afterAll(async () => {
    expect(await state()).toEqual(before)
  })

  test.each([
    ['malformed JSON', '{"to":', 400, 'malformed-json', undefined],
    ['JSON that is no object', '[]', 422, 'invalid-request', ['']],
    ['an empty body', '', 422, 'invalid-request', ['/to']],
    ['wrong types', { to: 'ada', content: 7 }, 422, 'invalid-request', ['/to', '/content']],
    ['an unknown user', { ...good, to: { any: ['everyone', 'user:bob'] } }, 422, 'invalid-request', ['/to/any/1']],
    [
      'an unknown device',
      { ...good, to: { any: ['device:018bcfe5-6800-7fff-bfff-ffffffffffff'] } },
      422,
      'invalid-request',
      ['/to/any/0'],
    ],
    [
      'a title of 100,000 characters',
      { ...good, content: { title: 'x'.repeat(100_000) } },
      422,
      'invalid-request',
      ['/content/title'],
    ],
    ['NUL bytes', { ...good, content: { title: 'a\u0000' } }, 422, 'invalid-request', ['/content/title']],
    ['a body of 10 MB', { ...good, content: { title: 'x'.repeat(10_000_000) } }, 413, 'body-too-large', undefined],
    [
      'a prototype in the data',
      '{"to":{"any":["user:ada"]},"content":{"title":"T","data":{"__proto__":{"a":1}}}}',
      422,
      'invalid-request',
      ['/content/data/__proto__'],
    ],
  ])('%s', async (_name, body, status, code, places) => {
    const answer = await send(body)
    expect([answer.status, answer.body.code]).toEqual([status, code])
    expect(answer.type).toBe('application/problem+json; charset=utf-8')
    expect(answer.body).toMatchObject({
      type: `urn:zephyr-bell:problem:${code}`,
      title: expect.any(String),
      remedy: expect.any(String),
    })
    expect(placesOf(answer)).toEqual(places)
  })

  test('a body that is not marked as JSON', async () => {
    expect((await send('to=ada', undefined, { 'content-type': 'application/x-www-form-urlencoded' })).body.code).toBe(
      'unsupported-media-type',
    )
  })

  test.each([
    ['no key', () => undefined, 401, 'not-signed-in'],
    ['a wrong key', () => 'zb-backend-wrong', 401, 'unknown-key'],
    ['the other app’s key', () => otherKey, 404, 'unknown-app'],
    ['the other environment’s key, for this environment', () => productionKey, 403, 'wrong-environment'],
    ['an app key', () => world.appKey, 403, 'not-allowed'],
    ['a device’s secret', () => secret, 401, 'unknown-key'],
  ])('%s', async (_name, key, status, code) => {
    const answer = await call('POST', `${notifications}?environment=development`, key(), good)
    expect([answer.status, answer.body.code]).toEqual([status, code])
  })

  const point = `B${'A'.repeat(86)}`
  test.each([
    ['a token that is not one', { platform: 'ios', token: 'not a token' }, ['/token']],
    ['a key that is not on the curve', web({ p256dh: point, auth: 'A'.repeat(22) }), ['/subscription/keys/p256dh']],
    ['a key that is not base64url', web({ p256dh: '!', auth: 'A'.repeat(22) }), ['/subscription/keys/p256dh']],
    [
      'an endpoint without TLS',
      {
        platform: 'web',
        subscription: { endpoint: 'http://a.example', keys: { p256dh: point, auth: 'A'.repeat(22) } },
      },
      ['/subscription/endpoint'],
    ],
    ['an unknown platform', { platform: 'fax', token: 'x'.repeat(40) }, ['/platform']],
  ])('registering with %s', async (_name, body, places) => {
    const answer = await call('POST', '/v1/devices', world.appKey, body)
    expect(answer.status).toBe(422)
    expect(placesOf(answer)?.slice(0, 1)).toEqual(places)
  })

  test('receipts of another device, of nothing, and of the future', async () => {
    const id =
      (await world.backend.call('listNotifications', { params })).items[0]?.id ?? '018bcfe5-6800-7fff-bfff-ffffffffffff'
    const forged = await call('POST', '/v1/devices/me/receipts', secret, {
      receipts: [{ notification: id, state: 'opened', at: '2126-01-01T00:00:00Z' }],
    })
    expect([forged.status, forged.body]).toEqual([200, { taken: 0, unknown: 1 }])
    expect(
      (
        await call('POST', '/v1/devices/me/receipts', secret, {
          receipts: [{ notification: id, state: 'accepted', at: 'now' }],
        })
      ).status,
    ).toBe(422)
    expect((await call('POST', '/v1/devices/me/receipts', world.appKey, { receipts: [] })).status).toBe(401)
  })

  test('an address that leads nowhere, and one that cannot be read', async () => {
    expect((await call('GET', '/v1/nothing', world.backendKey)).body.code).toBe('unknown-address')
    const other = await fetch(world.url + notifications, { method: 'DELETE' })
    expect([other.status, other.headers.get('allow')]).toEqual([405, 'POST, GET, HEAD'])
    expect(await other.json()).toMatchObject({ code: 'method-not-allowed' })
    // The same address with a slash at its end, and without its body.
    expect((await call('GET', `${notifications}/?limit=1`, world.backendKey)).status).toBe(200)
    expect((await call('HEAD', notifications, world.backendKey)).status).toBe(200)
    expect((await call('HEAD', '/v1/apps//notifications', world.backendKey)).status).toBe(404)
    expect((await call('GET', `${notifications}/nonsense`, world.backendKey)).body.code).toBe('unknown-notification')
    expect((await call('GET', '/v1/apps/%E0%A4%A/devices', world.backendKey)).status).toBe(404)
    expect((await call('GET', `${notifications}?limit=9999`, world.backendKey)).body.errors).toEqual([
      { pointer: '?limit', detail: expect.any(String) },
    ])
  })

  test('a parameter that there is not, and a cursor that is none', async () => {
    const faults = async (path: string) => {
      const { status, body } = await call('GET', path, world.backendKey)
      return [status, (body.errors as { pointer: string; detail: string }[])?.[0]]
    }
    expect(await faults(`${notifications}?limits=5`)).toEqual([
      422,
      {
        pointer: '?limits',
        detail: expect.stringContaining('is not a parameter of this address; there are environment, limit'),
      },
    ])
    const notAPlace = [422, { pointer: '?after', detail: 'is not a place in this list' }]
    for (const list of ['devices', 'users', 'topics', 'notifications', 'schedules'])
      expect([list, await faults(`/v1/apps/${app}/${list}?after=zzzz`)]).toEqual([list, notAPlace])
  })

  test('text in any language, wherever an address or a parameter takes text', async () => {
    const text = '\u202eГавань 🛳'
    const texts: string[] = []
    for (const [name, { query }] of Object.entries<Operation>(operations)) {
      const [method, path] = routes[name as keyof typeof routes].replace('{app}', app).split(' ') as [string, string]
      if (path.includes('{')) texts.push(`${method} ${path.replaceAll(/\{\w+\}/g, encodeURIComponent(text))}`)
      if (method !== 'GET') continue
      for (const one of Object.keys(query?.shape ?? {}))
        texts.push(`GET ${path.replaceAll(/\{\w+\}/g, 'x')}?${new URLSearchParams({ [one]: text })}`)
    }
    expect(texts.length).toBeGreaterThan(100)
    const wrong: string[] = []
    for (const one of texts) {
      const [method, path] = one.split(' ') as [string, string]
      const asked = call(method, path, world.backendKey, method === 'GET' ? undefined : {})
      const { status } = await asked.catch(() => ({ status: 599 }))
      if (status >= 500) wrong.push(`${status} ${one}`)
    }
    expect(wrong).toEqual([])
  })

  test('a connection stays open for longer than a proxy in front keeps one that nobody uses', async () => {
    const { headers } = await fetch(`${world.url}/ready`)
    expect(headers.get('keep-alive')).toBe('timeout=75')
  })

  test('a client that sends half a body and leaves costs nothing', async () => {
    const { port } = new URL(world.url)
    await new Promise<void>((done) => {
      const half = request({
        port,
        method: 'POST',
        path: notifications,
        headers: {
          authorization: `Bearer ${world.backendKey}`,
          'content-type': 'application/json',
          'content-length': '1000',
        },
      })
      half.on('error', () => done())
      half.write('{"to":')
      setTimeout(() => half.destroy(), 50)
    })
    expect((await fetch(`${world.url}/livez`)).status).toBe(200)
  })
})

function web(keys: { p256dh: string; auth: string }) {
  return { platform: 'web', subscription: { endpoint: 'https://127.0.0.1:1/push', keys } }
}

describe('sending again', () => {
  test('with the same Idempotency-Key gives the same answer and rings once', async () => {
    const headers = { 'idempotency-key': 'sailing-101-late' }
    const answers = await Promise.all(Array.from({ length: 5 }, () => send(good, undefined, headers)))
    const ids = new Set(answers.map(({ body }) => (body as unknown as { id: string }).id))
    expect([ids.size, new Set(answers.map(({ status }) => status))]).toEqual([1, new Set([202])])
    expect((await send({ ...good, content: { title: 'Another' } }, undefined, headers)).body.code).toBe(
      'idempotency-mismatch',
    )
    expect((await send(good, undefined, { 'idempotency-key': 'x'.repeat(300) })).status).toBe(422)
  })

  const once = (path: string, bearer: string, key: string, body: object) =>
    call('POST', path, bearer, body, { 'idempotency-key': key })

  test('what makes anything else makes it once, and answers the same again', async () => {
    const path = `/v1/apps/${app}/handsets`
    const [first, again] = [
      await once(path, world.backendKey, 'a-phone', { platform: 'ios', id: 'twice' }),
      await once(path, world.backendKey, 'a-phone', { id: 'twice', platform: 'ios' }),
    ]
    expect([first.status, again.status, (again.body as unknown as { id: string }).id]).toEqual([201, 201, 'twice'])
    expect((await once(path, world.backendKey, 'a-phone', { platform: 'web' })).body.code).toBe('idempotency-mismatch')
    // Another app's key of the same name is another.
    expect((await once('/v1/apps/gull-air/handsets', otherKey, 'a-phone', { platform: 'web' })).status).toBe(201)
    // At the same moment one is done, and the others are told to come again.
    const five = await Promise.all(
      Array.from({ length: 5 }, () => once(path, world.backendKey, 'at-once', { platform: 'android' })),
    )
    expect(five.filter(({ status }) => status === 201).length).toBeGreaterThan(0)
    for (const { status, body } of five)
      if (status !== 201) expect([status, body.code]).toEqual([409, 'idempotency-unfinished'])
    // One that was killed before its end may have been done: it is not done again, and says so.
    await world.changeDirectly('update request_keys set status = null, answer = null')
    const cut = await once(path, world.backendKey, 'a-phone', { platform: 'ios', id: 'twice' })
    expect([cut.status, cut.body.code]).toEqual([409, 'idempotency-unfinished'])
    const { items } = await world.backend.call('listHandsets', { params })
    expect(items.filter(({ platform }) => platform === 'android')).toHaveLength(1)
  })

  test('what was refused was not done, and its key is free', async () => {
    const path = '/v1/apps'
    const slug = { slug: app, name: 'Again' }
    expect((await once(path, world.operatorKey, 'an-app', slug)).body.code).toBe('name-taken')
    expect((await once(path, world.operatorKey, 'an-app', { slug: 'skua-line', name: 'Skua' })).status).toBe(201)
  })

  test('a secret is shown once: a repeat says what was made', async () => {
    const body = { kind: 'backend', environment: 'development', name: 'cron' }
    const made = await once(`/v1/apps/${app}/keys`, world.operatorKey, 'for-cron', body)
    const { id, key } = made.body as unknown as { id: string; key: string }
    const again = await once(`/v1/apps/${app}/keys`, world.operatorKey, 'for-cron', body)
    expect([made.status, again.status, again.body.code]).toEqual([201, 409, 'made-before'])
    expect(again.body.detail).toContain(`made a key (id ${id}, name cron)`)
    expect(JSON.stringify(again.body)).not.toContain(key)
    const kept = JSON.stringify(await world.ask('select * from request_keys'))
    expect(kept).not.toContain(key)
  })
})

describe('a device speaks for itself alone', () => {
  test('it reads and changes only what is its own', async () => {
    const own = await call('GET', '/v1/devices/me', secret)
    expect(own.body).toMatchObject({ platform: 'ios', permission: 'prompt', user: null })
    const changed = await call('PATCH', '/v1/devices/me', secret, {
      permission: 'granted',
      muted: true,
      locale: 'nb',
      timeZone: 'Europe/Oslo',
    })
    expect(changed.body).toMatchObject({ permission: 'granted', muted: true, locale: 'nb', timeZone: 'Europe/Oslo' })
    expect((await call('GET', `/v1/apps/${app}/devices`, secret)).status).toBe(401)
    expect(
      (await call('PATCH', '/v1/devices/me', secret, { subscription: web({ p256dh: 'A', auth: 'A' }).subscription }))
        .status,
    ).toBe(422)
  })

  test('the same token with its secret is the same device, and keeps the secret', async () => {
    const body = { platform: 'android', token: 'another-token-of-some-length-0002', user: 'ada' }
    type Registered = { device: { id: string; user: string | null }; secret: string }
    const first = (await call('POST', '/v1/devices', world.appKey, body)).body as unknown as Registered
    const again = { ...body, user: null, secret: first.secret }
    const second = (await call('POST', '/v1/devices', world.appKey, again)).body as unknown as Registered
    expect([second.device.id, second.device.user, second.secret]).toEqual([first.device.id, null, first.secret])
    expect(await call('POST', '/v1/devices', world.appKey, body)).toMatchObject({ status: 409 })
  })

  test('whatever page it runs on may call', async () => {
    const preflight = await fetch(`${world.url}/v1/devices`, {
      method: 'OPTIONS',
      headers: { origin: 'https://ferries.example' },
    })
    expect([preflight.status, preflight.headers.get('access-control-allow-origin')]).toEqual([204, '*'])
    expect(
      (await fetch(`${world.url}/v1/apps`, { method: 'OPTIONS' })).headers.get('access-control-allow-origin'),
    ).toBeNull()
  })
})
