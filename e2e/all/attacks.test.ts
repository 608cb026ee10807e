import { request } from 'node:http'
import { deflateSync } from 'node:zlib'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { Client } from '@zbell/contract/client'
import { freePort } from '../../packages/service/src/database/private/private-server.ts'
import { until, zbell } from '../harness/programs.ts'
import { app, params, World } from '../harness/world.ts'

let world: World
beforeAll(async () => {
  world = await World.open()
})
afterAll(() => world.close())

type Sent = { readonly status: number; readonly code: string | undefined }

/** Sends what no client of ours would. @param chunked without saying how long it is */
function post(path: string, bearer: string, body: string, chunked = false): Promise<Sent> {
  return new Promise((done, fail) => {
    const { hostname, port } = new URL(world.url)
    const length = chunked ? { 'transfer-encoding': 'chunked' } : { 'content-length': Buffer.byteLength(body) }
    const headers = { 'content-type': 'application/json', authorization: `Bearer ${bearer}`, ...length }
    const asked = request({ hostname, port, path, method: 'POST', headers }, async (answer) => {
      const text = (await answer.setEncoding('utf8').toArray()).join('')
      const { code } = (text === '' ? {} : JSON.parse(text)) as { code?: string }
      done({ status: answer.statusCode ?? 0, code })
    })
    asked.once('error', fail)
    // In parts, so that the end of it comes later than its beginning.
    for (let at = 0; at < body.length; at += 60_000) asked.write(body.slice(at, at + 60_000))
    asked.end()
  })
}

const notifications = `/v1/apps/${app}/notifications`

describe('a stranger', () => {
  test('has nothing read that is large, or does not say how large it is', async () => {
    // What is no JSON is told apart from what is only after it was read.
    const broken = `{"to": ${'['.repeat(1_800_000)}`
    expect(await post(notifications, 'zb-backend-nobody', broken)).toEqual({ status: 401, code: 'unknown-key' })
    expect(await post(notifications, 'zb-backend-nobody', broken, true)).toEqual({ status: 401, code: 'unknown-key' })
    expect(await post(notifications, 'zb-backend-nobody', '{"to":', true)).toEqual({ status: 401, code: 'unknown-key' })
    // Whoever may send hears what is wrong with it.
    expect(await post(notifications, world.backendKey, '{"to":', true)).toEqual({ status: 400, code: 'malformed-json' })
    expect(await post(notifications, world.backendKey, `{"a":"${'x'.repeat(2_200_000)}"}`, true)).toMatchObject({
      code: 'body-too-large',
    })
  })

  test('has nothing opened that is compressed, and nobody has what becomes a hundred times as large', async () => {
    const compressed = (bearer: string, json: string, path = notifications) =>
      fetch(world.url + path, {
        method: 'POST',
        headers: {
          'content-type': 'application/json',
          'content-encoding': 'deflate',
          authorization: `Bearer ${bearer}`,
        },
        body: deflateSync(json),
      }).then(async (answer) => [answer.status, ((await answer.json()) as { code: string }).code])
    const huge = `{"to": "${' '.repeat(1_900_000)}"}`
    expect(await compressed('zb-backend-nobody', '{"to":')).toEqual([401, 'unknown-key'])
    expect(await compressed('zb-backend-nobody', huge)).toEqual([401, 'unknown-key'])
    expect(await compressed(world.backendKey, huge)).toEqual([413, 'body-too-large'])
    // What people write becomes ten times as large, and is read.
    expect(await compressed(world.backendKey, '{"to":')).toEqual([400, 'malformed-json'])
    expect(await compressed(world.appKey, huge, '/v1/devices')).toEqual([413, 'body-too-large'])
  })

  test('sends no half of a character anywhere', async () => {
    const titled = (title: string) => `{"to": {"any": ["everyone"]}, "content": {"title": "${title}"}}`
    expect(await post(notifications, world.backendKey, titled('a\\ud83d\\ude00'))).toMatchObject({ status: 202 })
    expect(await post(notifications, world.backendKey, titled('a\\ud83d'))).toEqual({
      status: 422,
      code: 'invalid-request',
    })
    expect(await post('/v1/apps/a%00b/notifications', world.backendKey, '{}')).toEqual({
      status: 404,
      code: 'unknown-address',
    })
  })

  test('does not get around a bound by writing an address in other letters', async () => {
    const body = JSON.stringify({ platform: 'ios', token: 'x'.repeat(100_000), permission: 'granted' })
    expect(await post('/v1/devices', world.appKey, body)).toMatchObject({ status: 413 })
    expect(await post('/v1/Devices', world.appKey, body)).toEqual({ status: 404, code: 'unknown-address' })
  })
})

test('an account has a password worth its name, and one link that lets in', async () => {
  const account = { email: 'quay@merrow-sound.example', name: 'Quay', role: 'viewer' as const }
  for (const password of [
    'short of 12',
    'aaaaaaaaaaaaaaaa',
    'abababababababab',
    '1qaz2wsx3edc',
    'Password2026!',
    'qwertyqwerty',
    'sunshine12345',
  ])
    await expect(world.operator.call('makeAccount', { body: { ...account, password } })).rejects.toMatchObject({
      problem: { code: 'invalid-request' },
    })
  await world.operator.call('makeAccount', { body: { ...account, password: 'a long watch at the quay' } })
  const link = async () => (await world.operator.call('makeSignInLink', { body: { email: account.email } })).link
  const signIn = (given: string) =>
    fetch(`${world.url}/v1/session`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ link: given }),
    }).then(({ status }) => status)
  const [first, second] = [await link(), await link()]
  expect(await signIn(first)).toBe(401)
  expect(await signIn(second)).toBe(200)
  expect(await signIn(second)).toBe(401)
})

test('metrics are the operator’s, and at a port of their own whoever can reach that', async () => {
  for (const authorization of [undefined, `Bearer ${world.backendKey}`, `Bearer ${world.appKey}`])
    expect((await fetch(`${world.url}/metrics`, authorization ? { headers: { authorization } } : {})).status).toBe(401)
  expect(await world.metrics()).toContain('zbell_')
  const port = await freePort()
  const second = await world.startSecond({ ZB_METRICS_PORT: String(port), ZB_ONLY: 'worker' })
  expect(await (await fetch(`http://127.0.0.1:${port}/metrics`)).text()).toContain('zbell_')
  expect((await fetch(`http://127.0.0.1:${port}/v1/apps`)).status).toBe(404)
  expect((await fetch(`http://127.0.0.1:${port}/metrics`, { method: 'POST' })).status).toBe(404)
  await second.stop()
})

describe('whoever has a key', () => {
  test.each([
    ['lists in lists', (levels: number) => `${'['.repeat(levels)}${']'.repeat(levels)}`],
    ['objects in objects', (levels: number) => `${'{"a":'.repeat(levels)}1${'}'.repeat(levels)}`],
  ])('sends %s, however deep, and is answered in words', async (_name, nested) => {
    for (const levels of [101, 2_000, 20_000]) {
      const body = `{"to":{"any":["everyone"]},"content":{"title":"T","data":{"a":${nested(levels)}}}}`
      expect(await post(notifications, world.backendKey, body)).toEqual({ status: 422, code: 'invalid-request' })
    }
  })

  test.each(['{n, number, ::unit/foo}', '{n, number, ::currency/ZZ}', `{n, number, ::.${'0'.repeat(150)}}`])(
    'sends no text in which nothing can be written: %s',
    async (title) => {
      const body = { to: { any: ['everyone'] }, content: { title }, values: { n: 1 } }
      expect(await post(notifications, world.backendKey, JSON.stringify(body))).toMatchObject({ status: 422 })
    },
  )

  test.each<[string, (n: number) => readonly [method: string, path: string, body: unknown]]>([
    ['an attribute', (n) => ['PATCH', `/users/ada-${n}/attributes`, { deck: n % 2 === 0 ? 'lower' : n }]],
    ['a declared attribute', () => ['PUT', '/attributes/cabin', { type: 'text' }]],
    ['a topic', (n) => ['POST', '/topics/route-9/join', { users: [`ada-${n}`] }]],
    ['a template', (n) => ['PUT', '/templates/boarding', { content: { title: `Boarding ${n}` } }]],
    ['a segment', (n) => ['PUT', '/segments/early', { rule: `count("a", duration("${n + 1}h")) > 0` }]],
    [
      'a source',
      (n) => [
        'PUT',
        '/sources/desk',
        { kind: 'incoming', occurrences: `{"id": "${n}"}`, verify: { by: 'standard-webhooks' } },
      ],
    ],
    [
      'a trigger',
      (n) => [
        'PUT',
        '/triggers/late',
        { source: 'occurrences', to: { any: ["'everyone'"] }, content: { title: `${n}` } },
      ],
    ],
    [
      'a schedule',
      (n) => [
        'PUT',
        '/schedules/daily',
        {
          when: { from: '2030-01-01T08:00', zone: 'Europe/Oslo', repeat: 'FREQ=DAILY' },
          notification: { to: { any: ['everyone'] }, content: { title: `${n}` } },
        },
      ],
    ],
    ['a webhook', (n) => ['PUT', '/webhooks/desk', { url: `https://desk.merrow-sound.example/${n}`, kinds: ['*'] }]],
    ['a channel', (n) => ['PUT', '/channels/delays', { title: `Delays ${n}` }]],
    [
      'an occurrence',
      (n) => ['POST', '/occurrences', { id: 'same', source: '/a', type: 'seen', subject: `bo-${n % 3}` }],
    ],
  ])('stores %s for the first time forty times at once, and is never answered 5xx', async (_, requestOf) => {
    const statuses = await Promise.all(
      Array.from({ length: 40 }, async (_one, n) => {
        const [method, path, body] = requestOf(n)
        const headers = { authorization: `Bearer ${world.backendKey}`, 'content-type': 'application/json' }
        const answer = await fetch(`${world.url}/v1/apps/${app}${path}`, {
          method,
          headers,
          body: JSON.stringify(body),
        })
        const { detail = '' } = answer.ok ? {} : ((await answer.json()) as { detail?: string })
        return `${answer.status} ${detail}`
      }),
    )
    expect(statuses.filter((status) => !/^20|^422 deck is of type/.test(status))).toEqual([])
  })

  test('reads every list, though one row holds a text that an earlier version took', async () => {
    const device = (await (await world.handset(1)).view()).device!
    const id = await world.send({ to: { any: [`device:${device}`] }, content: { title: 'Boarding' } })
    await until(
      () => world.notification(id),
      ({ state }) => state === 'finished',
    )
    const bad = JSON.stringify({ title: '{n, number, ::currency/ZZ}' })
    await world.changeDirectly(
      `update notifications set content = '${bad}' where id = unhex('${id.replaceAll('-', '')}')`,
    )
    const { items } = await world.backend.call('listNotifications', { params })
    expect(items.find((one) => one.id === id)?.shows.title).toBe('{n, number, ::currency/ZZ}')
    expect((await world.backend.call('readNotification', { params: { ...params, id } })).id).toBe(id)
    for (const path of [`notifications/${id}/progress`, `notifications/${id}/why/passenger-1`, 'stop'])
      expect(
        (
          await fetch(`${world.url}/v1/apps/${app}/${path}`, {
            headers: { authorization: `Bearer ${world.backendKey}` },
          })
        ).status,
      ).toBe(200)
  })

  test.each([
    ['a control that starts orders to terminals', '\u009b31m'],
    ['NUL', 'a\0b'],
    ['an override of direction', 'Skerry \u202eexe'],
  ])('cannot call a device or a person by %s', async (_name, text) => {
    const device = { platform: 'ios', token: 'a-token-of-somebody', permission: 'granted' }
    expect(await post('/v1/devices', world.appKey, JSON.stringify({ ...device, model: text }))).toMatchObject({
      status: 422,
    })
    const user = text.replaceAll(' ', '')
    expect(await post('/v1/devices', world.appKey, JSON.stringify({ ...device, user }))).toMatchObject({ status: 422 })
  })

  test('has a share of the event streams, and a question for their head ends', async () => {
    const { key } = await world.operator.call('makeKey', {
      params,
      body: { kind: 'backend', environment: 'development', name: 'many screens' },
    })
    const gone = new AbortController()
    const open = (bearer: string, method = 'GET') =>
      fetch(`${world.url}/v1/apps/${app}/events`, {
        method,
        headers: { authorization: `Bearer ${bearer}` },
        signal: gone.signal,
      }).then(({ status }) => status)
    expect(await open(key, 'HEAD')).toBe(200)
    const statuses = await Promise.all(Array.from({ length: 110 }, () => open(key)))
    expect([
      statuses.filter((status) => status === 200).length,
      statuses.filter((status) => status === 429).length,
    ]).toEqual([100, 10])
    // Others are not kept out by it.
    expect(await open(world.backendKey)).toBe(200)
    gone.abort()
  })

  test('who made one without a role may only look', async () => {
    const { key } = await world.operator.call('makeKey', {
      params,
      body: { kind: 'backend', environment: 'development', name: 'a board' },
    })
    const client = new Client({ url: world.url, bearer: key })
    expect((await client.call('listNotifications', { params })).items).toBeDefined()
    // Of addresses that could be all that is needed to post to them, there is the host.
    await world.backend.call('saveWebhook', {
      params: { ...params, webhook: 'desk' },
      body: { url: 'https://desk.merrow-sound.example/T01/secret?token=x', kinds: ['*'] },
    })
    await world.backend.call('saveSource', {
      params: { ...params, source: 'desk' },
      body: { kind: 'incoming', occurrences: '{}', verify: { by: 'standard-webhooks' } },
    })
    const shown = async (to: Client) => [
      (await to.call('listWebhooks', { params })).items.find(({ name }) => name === 'desk')?.url,
      (await to.call('readSource', { params: { ...params, source: 'desk' } })).address?.split('/').at(-1),
    ]
    expect(await shown(client)).toEqual(['https://desk.merrow-sound.example/•••', '•••'])
    expect(await shown(world.backend)).toEqual([
      'https://desk.merrow-sound.example/T01/secret?•••',
      expect.stringMatching(/^[\w-]{32}$/),
    ])
    expect(await post(notifications, key, '{"to":{"any":["everyone"]},"content":{"title":"T"}}')).toMatchObject({
      code: 'not-allowed',
    })
  })

  test('names attributes as they like, and carries people out and in by CSV', async () => {
    const attributes = {
      constructor: 'Gull & Sons',
      user: 'captain',
      topics: 'none',
      toString: 'text',
      createdAt: 'long ago',
    }
    await world.backend.call('changeUserAttributes', { params: { ...params, user: 'ada' }, body: attributes as never })
    const get = (query: string) =>
      fetch(`${world.url}/v1/apps/${app}/export/users?format=${query}`, {
        headers: { authorization: `Bearer ${world.backendKey}` },
      }).then((answer) => answer.text())
    const csv = await get('csv')
    expect(csv.split('\n')[0]?.split(',').slice(0, 2)).toEqual(['user', 'topics'])
    for (const column of ['constructor', 'toString', 'attribute.user', 'attribute.topics', 'attribute.createdAt'])
      expect(csv.split('\n')[0]).toContain(column)
    const answer = await fetch(`${world.url}/v1/apps/${app}/import/users`, {
      method: 'POST',
      headers: { authorization: `Bearer ${world.backendKey}`, 'content-type': 'text/csv' },
      body: csv.replaceAll('ada,', 'signe,'),
    })
    expect(answer.status).toBe(200)
    const signe = await world.backend.call('readUser', { params: { ...params, user: 'signe' } })
    expect(signe.attributes).toEqual(attributes)
  })
})

test('what a text may not do to a terminal, --json says in another way', async () => {
  await world.changeDirectly(
    `insert into topics (app_no, environment, name, title, declared, created_at) values (1, 'development', 'odd', '\u009b31mred \u202e', 1, now(3))`,
  )
  const { out } = await zbell(['topic', 'list', '--json'], {
    ZBELL_URL: world.url,
    ZBELL_KEY: world.backendKey,
    ZBELL_APP: app,
  })
  expect(out).not.toMatch(/[\u0080-\u009f\u202e]/)
  const { items } = JSON.parse(out) as { items: { topic: string; title: string }[] }
  expect(items.find(({ topic }) => topic === 'odd')?.title).toBe('\u009b31mred \u202e')
})

describe('a key of one environment', () => {
  const keyOf = async (role: 'viewer' | 'sender' | 'owner', environment: 'development' | 'production', slug = app) => {
    const body = { kind: 'backend' as const, environment, role, name: `${role} of ${environment}` }
    const { key } = await world.operator.call('makeKey', { params: { app: slug }, body })
    return new Client({ url: world.url, bearer: key })
  }

  test('learns by Why nothing of who is in the other', async () => {
    await world.handset(71, 'ios', { user: 'only-in-development' })
    const production = await keyOf('owner', 'production')
    const sent = await production.call('sendNotification', {
      params,
      body: { to: { any: ['everyone'] }, content: { title: 'T' } },
    })
    const why = (client: Client, who: string) =>
      client.call('explainDelivery', { params: { app, id: sent.id, who }, query: { environment: 'production' } })
    const [known, unknown] = [await why(production, 'user:only-in-development'), await why(production, 'user:ghost')]
    expect(known.verdict).toBe('No: nobody is called only-in-development here.')
    expect(unknown.verdict).toBe('No: nobody is called ghost here.')
    expect(known.likely).toEqual(unknown.likely)
    const [{ id } = { id: '' }] = (await world.ask(
      "select lower(hex(id)) as id from devices d join users u on u.no = d.user_no where u.name = 'only-in-development'",
    )) as { id: string }[]
    const uuid = id.replace(/^(.{8})(.{4})(.{4})(.{4})(.{12})$/, '$1-$2-$3-$4-$5')
    expect((await why(production, `device:${uuid}`)).verdict).toBe('No: there is no such device.')
    // Whoever sees both is told.
    expect((await why(world.operator, 'user:only-in-development')).verdict).toMatch(/registered in development/)
  })

  test('of production has nothing to do with handsets', async () => {
    await world.handset(72, 'ios')
    const production = await keyOf('owner', 'production')
    expect((await production.call('listHandsets', { params })).items).toEqual([])
    for (const call of [
      () => production.call('readHandset', { params: { app, id: 'h72' } }),
      () => production.call('tapHandset', { params: { app, id: 'h72' }, body: {} }),
      () => production.call('deleteHandset', { params: { app, id: 'h72' } }),
    ])
      await expect(call()).rejects.toMatchObject({ problem: { code: 'not-in-production' } })
  })

  test('and of a sender makes no app key by way of a handset', async () => {
    await world.makeApp('far-side')
    const at = { params: { app: 'far-side' }, body: { platform: 'ios' as const } }
    const sender = await keyOf('sender', 'development', 'far-side')
    await expect(sender.call('makeHandset', at)).rejects.toMatchObject({ problem: { code: 'not-allowed' } })
    expect(
      (await world.operator.call('listKeys', { params: { app: 'far-side' } })).items.filter(
        ({ kind }) => kind === 'app',
      ),
    ).toEqual([])
    await (await keyOf('owner', 'development', 'far-side')).call('makeHandset', at)
    await sender.call('makeHandset', at)
  })
})
