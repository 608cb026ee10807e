import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { type Operation, operations, type RouteName, routes } from '@zbell/contract'
import { until } from '../harness/programs.ts'
import { app, World } from '../harness/world.ts'

/** An attacker who took the app apart has its app key, and one phone of their own. */
let world: World
let own: { id: string; secret: string }
let victim: { id: string; token: string; secret: string }
beforeAll(async () => {
  world = await World.open({
    ZB_REGISTRATIONS_PER_MINUTE: '40',
    ZB_DEVICE_CALLS_PER_MINUTE: '400',
    ZB_OCCURRENCES_OF_DEVICE_PER_HOUR: '30',
    ZB_OCCURRENCES_OF_APP_PER_HOUR: '45',
    ZB_INCOMING_PER_MINUTE: '20',
  })
  const token = world.standins.mints.ios.mint()
  victim = { token, ...(await register({ token, user: 'ada', installation: 'installation-of-the-victim' })) }
  own = await register({ token: world.standins.mints.ios.mint(), user: 'mallory' })
})
afterAll(() => world.close())

async function call(
  method: string,
  path: string,
  bearer: string,
  body?: unknown,
): Promise<[number, Record<string, unknown>]> {
  const answer = await fetch(world.url + path, {
    method,
    headers: {
      authorization: `Bearer ${bearer}`,
      ...(body === undefined ? {} : { 'content-type': 'application/json' }),
    },
    ...(body === undefined ? {} : { body: JSON.stringify(body) }),
  })
  const text = await answer.text()
  return [answer.status, text ? (JSON.parse(text) as Record<string, unknown>) : {}]
}
async function register(more: object): Promise<{ id: string; secret: string }> {
  const [, answer] = await call('POST', '/v1/devices', world.appKey, {
    platform: 'ios',
    permission: 'granted',
    ...more,
  })
  return { id: (answer.device as { id: string }).id, secret: String(answer.secret) }
}

describe('with an app key and a device secret', () => {
  const guarded = (Object.keys(routes) as RouteName[]).filter((name) => {
    const { caller }: Operation = operations[name]
    return caller === 'app' || caller === 'operator' || caller === 'console'
  })
  test.each(guarded)('nobody may call %s', async (name) => {
    const [method, path] = routes[name].split(' ') as [string, string]
    const names: Record<string, string> = {
      app,
      id: victim.id,
      user: 'ada',
      topic: 'route-1',
      name: 'homePier',
      what: 'devices',
      platform: 'ios',
    }
    const address = path.replace(/\{(\w+)\}/g, (_, key: string) => names[key] ?? 'x')
    for (const bearer of [world.appKey, own.secret]) {
      const [status] = await call(method, address, bearer, method === 'GET' || method === 'DELETE' ? undefined : {})
      expect([401, 403, 404]).toContain(status)
    }
  })

  test('nobody reads or changes another’s device: a secret speaks for its own alone', async () => {
    const [, mine] = await call('GET', '/v1/devices/me', own.secret)
    expect(mine.id).toBe(own.id)
    for (const path of [`/v1/devices/${victim.id}`, `/v1/devices/me/../${victim.id}`]) {
      const [status] = await call('GET', path, own.secret)
      expect(status).toBe(404)
    }
    const [status] = await call('PATCH', '/v1/devices/me', own.secret, { id: victim.id })
    expect(status).toBe(422)
    const [, still] = await call('GET', '/v1/devices/me', victim.secret)
    expect(still).toMatchObject({ id: victim.id, user: 'ada' })
  })

  test('nobody learns whether a user exists', async () => {
    const shape = async (user: string) => {
      const [status, answer] = await call('PATCH', '/v1/devices/me', own.secret, { user })
      return [status, Object.keys(answer).sort()]
    }
    expect(await shape('ada')).toEqual(await shape('somebody-who-never-was'))
    const [, attributes] = await call('GET', '/v1/devices/me/attributes', own.secret)
    expect(attributes).toEqual({})
    await call('PATCH', '/v1/devices/me', own.secret, { user: 'mallory' })
  })

  test('nobody reports for another device', async () => {
    const id = await world.send({ to: { any: [`device:${victim.id}`] }, content: { title: 'For Ada' } })
    const forged = { notification: id, state: 'opened', at: new Date().toISOString() }
    await until(
      () => world.notification(id),
      ({ state }) => state === 'finished',
    )
    const [, taken] = await call('POST', '/v1/devices/me/receipts', own.secret, { receipts: [forged] })
    expect(taken).toEqual({ taken: 0, unknown: 1 })
    expect((await world.notification(id)).totals.opened).toBe(0)
  })

  test('whoever knows a token and registers it gets neither the device nor its installation, and its own app takes it back', async () => {
    const body = { platform: 'ios', permission: 'granted', token: victim.token }
    const again = { ...body, secret: victim.secret, installation: 'installation-of-the-victim', user: 'ada' }
    // However long ago that was by now.
    await world.changeDirectly('update devices set claimed_at = utc_timestamp(3) + interval 1 hour')
    const [tooSoon, problem] = await call('POST', '/v1/devices', world.appKey, body)
    expect([tooSoon, problem.code]).toEqual([409, 'register-again'])
    for (const steal of [
      () => call('POST', '/v1/devices', world.appKey, body),
      // A change answers the same for a token that is known as for any other.
      () => call('PATCH', '/v1/devices/me', own.secret, { token: victim.token }),
    ]) {
      await world.changeDirectly('update devices set claimed_at = utc_timestamp(3) - interval 11 second')
      const [status, answer] = await steal()
      expect([200, 201]).toContain(status)
      expect(JSON.stringify(answer)).not.toContain(victim.id)
      expect(JSON.stringify(answer)).not.toContain('installation-of-the-victim')
      const [back, device] = await call('POST', '/v1/devices', world.appKey, again)
      expect([back, device.secret]).toEqual([201, victim.secret])
      expect(device.device).toMatchObject({ id: victim.id, user: 'ada', retiredAt: null })
    }
  })

  test('whoever knows an installation gets a device of their own beside it', async () => {
    await world.changeDirectly('update devices set claimed_at = utc_timestamp(3) - interval 11 second')
    const token = world.standins.mints.ios.mint()
    const body = { platform: 'ios', permission: 'granted', token, installation: 'installation-of-the-victim' }
    const [status, answer] = await call('POST', '/v1/devices', world.appKey, body)
    expect(status).toBe(201)
    expect([(answer.device as { id: string }).id, answer.installation]).not.toContain(victim.id)
    expect(answer.installation).not.toBe('installation-of-the-victim')
    const [, still] = await call('GET', '/v1/devices/me', victim.secret)
    expect(still).toMatchObject({ id: victim.id, user: 'ada', retiredAt: null })
  })

  test('a secret that is off by one letter is nobody’s', async () => {
    const wrong = own.secret.slice(0, -1) + (own.secret.endsWith('A') ? 'B' : 'A')
    expect((await call('GET', '/v1/devices/me', wrong))[0]).toBe(401)
  })

  test('nobody fills the database with occurrences: a device and an app have limits, which Health tells', async () => {
    let id = 0
    const report = async (bearer: string, characters: number) =>
      call('POST', '/v1/devices/me/occurrences', bearer, {
        id: String(++id),
        source: '/app',
        type: 'seen',
        data: { text: 'x'.repeat(characters) },
      })
    const statuses = []
    for (let at = 0; at < 4; at++) statuses.push((await report(own.secret, 9_900))[0])
    // Ten thousand characters count ten times.
    expect(statuses).toEqual([200, 200, 200, 429])
    expect((await report(victim.secret, 10))[0]).toBe(200)
    const [, refusal] = await report(own.secret, 10)
    expect(refusal).toMatchObject({ code: 'too-many-requests', detail: expect.stringContaining('30 times an hour') })
    await report(victim.secret, 9_900)
    const [status, ofApp] = await report(victim.secret, 9_900)
    expect([status, ofApp.detail]).toEqual([429, 'This app may do this 45 times an hour (occurrences from devices).'])
    const health = () => world.backend.call('readHealth', { params: { app } })
    const { troubles } = await until(health, (now) =>
      now.troubles.some(({ detail }) => detail.includes('45 occurrences')),
    )
    expect(troubles.map(({ remedy }) => remedy).join()).toContain('limits.occurrencesOfAppPerHour')
    // What the server reports is not of the app key.
    const [ofServer] = await call('POST', `/v1/apps/${app}/occurrences`, world.backendKey, {
      id: 'of-server',
      source: '/server',
      type: 'seen',
    })
    expect(ofServer).toBe(200)
  })

  test('nobody posts to incoming addresses without end', async () => {
    const statuses = []
    for (let at = 0; at < 21; at++) statuses.push((await call('POST', '/v1/incoming/none', own.secret, {}))[0])
    expect([statuses[0], statuses[20]]).toEqual([404, 429])
  })

  test('nobody exceeds the rate', async () => {
    const statuses: number[] = []
    for (let i = 0; i < 60; i++) {
      const token = world.standins.mints.ios.mint()
      statuses.push((await call('POST', '/v1/devices', world.appKey, { platform: 'ios', token }))[0])
    }
    expect(statuses.at(-1)).toBe(429)
    expect(statuses.filter((status) => status === 201).length).toBeLessThanOrEqual(40)
    const calls = await Promise.all(Array.from({ length: 420 }, () => call('GET', '/v1/devices/me', own.secret)))
    // Of those before it no more than one has counted in this minute.
    expect(calls.filter(([status]) => status === 429).length).toBeGreaterThanOrEqual(20)
  })
})
