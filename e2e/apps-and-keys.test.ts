import { readFileSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Device, Key, Setup } from '@zbell/contract'
import { Client, ProblemError } from '@zbell/contract/client'
import { until, zbell } from './harness/programs.ts'
import { app, params, World } from './harness/world.ts'

let world: World
beforeAll(async () => {
  world = await World.open()
})
afterAll(() => world.close())

const operatorCli = (...args: string[]) =>
  zbell(args, {
    ZBELL_URL: world.url,
    ZBELL_KEY: readFileSync(join(world.data, 'service/operator.key'), 'utf8').trim(),
    ZBELL_APP: app,
    ZBELL_ENVIRONMENT: 'development',
  })
const codeOf = async (call: Promise<unknown>): Promise<string> => {
  try {
    await call
    return 'done'
  } catch (error) {
    if (error instanceof ProblemError) return error.problem.code
    throw error
  }
}
const makeKey = (body: object) => world.operator.call('makeKey', { params, body: body as never })
const clientOf = (bearer: string) => new Client({ url: world.url, bearer })

describe('an app', () => {
  test('is renamed and told what platforms call it, one thing at a time', async () => {
    await world.operator.call('makeApp', { body: { slug: 'gull-air', name: 'Gull Air' } })
    const at = { params: { app: 'gull-air' } }
    await world.operator.call('changeApp', { ...at, body: { identifiers: { ios: 'example.gull' } } })
    await Promise.all([
      world.operator.call('changeApp', { ...at, body: { identifiers: { android: 'example.gull' } } }),
      world.operator.call('changeApp', { ...at, body: { name: 'Gull Airways' } }),
    ])
    const read = () => world.operator.call('readApp', { ...at, query: { environment: 'production' } })
    expect(await read()).toMatchObject({
      slug: 'gull-air',
      name: 'Gull Airways',
      identifiers: { ios: 'example.gull', android: 'example.gull' },
    })
    await world.operator.call('changeApp', { ...at, body: { identifiers: { ios: null } } })
    expect((await read()).identifiers).toEqual({ android: 'example.gull' })
  })

  test.each([
    ['ios', 'two words'],
    ['ios', 'ferries'],
    ['ios', 'example..ferries'],
    ['android', '1example.ferries'],
    ['android', 'ferries'],
    ['android', 'example.fer-ries'],
    ['web', 'ferries.example'],
    ['web', 'https://ferries.example/book'],
    ['web', 'ftp://ferries.example'],
  ])('refuses the identifier on %s that cannot be one: %s', async (platform, given) => {
    const body = { identifiers: { [platform]: given } }
    expect(await codeOf(world.operator.call('changeApp', { params, body }))).toBe('invalid-request')
  })

  test('that has devices and no credential is told so beforehand, by Health and by the review', async () => {
    await world.operator.call('makeApp', { body: { slug: 'gull-rail', name: 'Gull Rail' } })
    const installed = clientOf(await world.makeKey('gull-rail', 'app'))
    const backend = clientOf(await world.makeKey('gull-rail', 'backend'))
    const at = { params: { app: 'gull-rail' } }
    expect((await backend.call('readHealth', at)).troubles).toEqual([])
    await installed.call('registerDevice', {
      body: { platform: 'ios', permission: 'granted', token: world.standins.mints.ios.mint() },
    })
    expect((await backend.call('readHealth', at)).troubles).toEqual([
      {
        detail:
          'Devices on ios are registered and none of them can be rung: No credential is stored for this platform and environment.',
        remedy: expect.stringContaining('Store one for the platform in this environment'),
      },
    ])
    const body = { to: { any: ['everyone'] }, content: { title: 'Boarding' } }
    expect(await backend.call('reviewNotification', { ...at, body })).toMatchObject({
      people: 0,
      devices: { ios: 0, android: 0, web: 0 },
      leftOut: [{ reason: 'no-credential', count: 1, remedy: expect.stringContaining('Store one') }],
    })
  })

  test('its new identifier counts for the next ring, in a lane that is open already', async () => {
    await world.handset(1)
    const ring = async () => {
      const id = await world.send({ to: { any: ['user:passenger-1'] }, content: { title: 'T' } })
      await until(
        () => world.notification(id),
        ({ totals }) => totals.shown === 1,
      )
    }
    await ring()
    await operatorCli('app', 'change', '--ios', 'example.renamed')
    const tried = await until(
      () => world.backend.call('tryGateway', { params: { app, platform: 'ios' }, body: {} }),
      ({ request }) => request.headers['harbour-app'] === 'example.renamed',
    )
    expect(tried.answer).toBeNull()
    await ring()
  })

  test('zbell makes, lists and changes apps, in words', async () => {
    const made = await operatorCli('app', 'new', 'sound-crew', '--name', 'Sound Crew', '--web', 'https://crew.example')
    expect(made).toMatchObject({ code: 0, err: '' })
    expect(made.out).toMatch(/web +https:\/\/crew\.example/)
    expect((await operatorCli('app', 'list')).out).toMatch(/sound-crew +Sound Crew +– +– +https:\/\/crew\.example/)
    expect((await operatorCli('app', 'change', '--app', 'sound-crew', '--web', 'none')).out).toMatch(/web +–/)
    expect(await operatorCli('app', 'change')).toMatchObject({ code: 2 })
    expect((await operatorCli('app', 'new', 'sound-crew', '--name', 'Again')).err).toContain('There is an app named')
  })
})

describe('a key', () => {
  test('is listed by what is known of it, never by itself', async () => {
    const made = await makeKey({ kind: 'backend', environment: 'development', name: 'Sailing board', role: 'viewer' })
    const page = await world.operator.call('listKeys', { params })
    const found = page.items.find(({ id }) => id === made.id)
    expect(found).toMatchObject({ name: 'Sailing board', role: 'viewer', createdBy: 'operator', usedAt: null })
    expect(JSON.stringify(page)).not.toContain(made.key)
    await clientOf(made.key).call('listNotifications', { params })
    const used = (await world.operator.call('listKeys', { params })).items.find(({ id }) => id === made.id)
    expect(Date.now() - Date.parse(used?.usedAt ?? '')).toBeLessThan(60_000)
  })

  test.each([
    ['viewer', 'done', 'not-allowed', 'not-allowed'],
    ['sender', 'done', 'done', 'not-allowed'],
    ['owner', 'done', 'done', 'done'],
  ])('of a %s may as much as its role says', async (role, reads, sends, changes) => {
    const { key } = await makeKey({ kind: 'backend', environment: 'development', name: role, role })
    const client = clientOf(key)
    expect(await codeOf(client.call('listDevices', { params }))).toBe(reads)
    const body = { to: { any: ['everyone'] }, mode: 'wake' as const, content: {} }
    expect(await codeOf(client.call('sendNotification', { params, body }))).toBe(sends)
    const make = { platform: 'web' as const, subject: 'mailto:bell@merrow-sound.example' }
    expect(await codeOf(client.call('makeCredential', { params, body: make }))).toBe(changes)
    // Nobody makes keys with a key.
    expect(await codeOf(client.call('listKeys', { params }))).toBe('unknown-key')
  })

  test('that ships inside the app has no role', async () => {
    const given = { kind: 'app', environment: 'development', name: 'In the app', role: 'owner' }
    expect(await codeOf(makeKey(given))).toBe('invalid-request')
  })

  test('opens nothing from the moment it is revoked, and ends what it listens to', async () => {
    const made = await makeKey({ kind: 'backend', environment: 'development', name: 'Lost', role: 'owner' })
    const client = clientOf(made.key)
    const stream = (await client.stream('watchApp', { params })).getReader()
    await stream.read()
    // What it asks for is looked up while it is looked up itself, as long as it was good a moment ago.
    const body = { to: { any: ['user:nobody-of-this-name'] }, content: { title: 'Kittiwake is late' } }
    expect(await codeOf(client.call('sendNotification', { params, body }))).toBe('invalid-request')
    const listed = await operatorCli('key', 'list')
    expect(listed.out).toMatch(/● valid +backend +development +owner +Lost/)
    const revoked = await operatorCli('key', 'revoke', made.id)
    expect(revoked.out).toBe('“Lost” is revoked; nobody gets in with it any more.\n')
    expect(await codeOf(client.call('sendNotification', { params, body }))).toBe('unknown-key')
    expect(await codeOf(client.call('listDevices', { params }))).toBe('unknown-key')
    for (let part = await stream.read(); !part.done; part = await stream.read());
    expect((await operatorCli('key', 'list')).out).toMatch(/– revoked +backend +development +owner +Lost/)
    const other = { params: { app: 'gull-air', id: made.id } }
    expect(await codeOf(world.operator.call('revokeKey', other))).toBe('unknown-key-id')
  })

  test('is printed by zbell once, for one environment', async () => {
    const made = await operatorCli('key', 'new', 'Board', '--kind', 'backend', '--role', 'sender')
    expect(made.out).toMatch(/^zb-backend-[\w-]{43}\n$/)
    expect(made.err).toContain('It is printed this once.')
    const keys = JSON.parse((await operatorCli('key', 'list', '--json')).out) as { items: Key[] }
    expect(keys.items[0]).toMatchObject({ name: 'Board', role: 'sender', environment: 'development' })
  })
})

test('a hint can be followed as it stands: it is called as this was, and names the app', async () => {
  const env = { ZBELL_URL: world.url, ZBELL_KEY: world.operatorKey }
  const named = ['--app', app, '--environment', 'production', 'template', 'list']
  expect((await zbell(named, { ...env, ZBELL_CALLED: './zbell' })).out).toBe(
    `There is no template yet. Try: ./zbell --app ${app} --environment production template save delay FILE\n`,
  )
  // What the surroundings say need not be said again.
  const around = { ...env, ZBELL_APP: app, ZBELL_ENVIRONMENT: 'production' }
  expect((await zbell(['template', 'list'], around)).out).toBe(
    'There is no template yet. Try: zbell template save delay FILE\n',
  )
})

describe('two apps', () => {
  test('have nothing in common: devices, people, handsets, credentials, notifications, setup', async () => {
    await world.makeApp('far-side')
    const far = { params: { app: 'far-side' } }
    const backend = clientOf(await world.makeKey('far-side', 'backend'))
    const appKey = await world.makeKey('far-side', 'app')
    world.standins.place('far-side', { url: world.url, appKey })
    await world.handset(2, 'ios', { user: 'ada' })
    await world.standins.registry.make({ id: 'h2', app: 'far-side', model: 'Skerry', platform: 'ios', user: 'ada' })
    const theirs = (await backend.call('listDevices', far)).items as Device[]
    expect(theirs).toHaveLength(1)
    const id = await world.send({ to: { any: ['user:ada'] }, content: { title: 'For one app' } })
    const { totals } = await until(
      () => world.notification(id),
      ({ state }) => state === 'finished',
    )
    expect(totals.expanded).toBe(1)
    expect((await backend.call('listNotifications', far)).items).toEqual([])
    expect(await codeOf(backend.call('readNotification', { params: { app: 'far-side', id } }))).toBe(
      'unknown-notification',
    )
    expect(await codeOf(world.backend.call('readDevice', { params: { app, id: theirs[0]!.id } }))).toBe(
      'unknown-device',
    )
    const across = { to: { any: [`device:${theirs[0]!.id}`] }, content: { title: 'T' } }
    expect(await codeOf(world.backend.call('sendNotification', { params, body: across }))).toBe('invalid-request')
    expect((await backend.call('listCredentials', far)).items).toEqual([])
    expect(await codeOf(backend.call('listDevices', { params }))).toBe('unknown-app')
    const steps = (setup: Setup) => setup.platforms[0]!.steps.map(({ state }) => state)
    expect(steps(await world.backend.call('readSetup', { params }))).toEqual(Array(7).fill('done'))
    expect(steps(await backend.call('readSetup', far))).toEqual([
      'done',
      'done',
      'open',
      'open',
      'done',
      'open',
      'open',
    ])
  })
})
