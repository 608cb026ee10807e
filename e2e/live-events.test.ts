import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Delivery, Notification } from '@zbell/contract'
import { readEvents, type StreamEvent } from '@zbell/contract/events'
import { until } from './harness/programs.ts'
import { atLength } from './harness/scope.ts'
import { app, params, World } from './harness/world.ts'

let world: World
beforeAll(async () => {
  world = await World.open()
  await world.handset(1, 'ios', { user: 'ada' })
  await world.handset(2, 'android', { user: 'ada' })
})
afterAll(() => world.close())

/** Listens until told to stop. */
function listen(stream: ReadableStream<Uint8Array>): StreamEvent[] {
  const heard: StreamEvent[] = []
  const read = async () => {
    for await (const event of readEvents(stream)) heard.push(event)
  }
  read().catch(() => undefined) // The stream is cut when the test is over.
  return heard
}

describe('live updates', () => {
  test('listeners who leave before they are heard leave nothing behind', async () => {
    const url = `${world.url}/v1/apps/${app}/events`
    const headers = { authorization: `Bearer ${world.backendKey}` }
    // At every moment of the way in: before the request arrives, while the key is looked up, and just after.
    const leave = async (i: number) => {
      const gone = new AbortController()
      const asked = fetch(url, { headers, signal: gone.signal }).catch(() => undefined)
      await new Promise((done) => setTimeout(done, i % 12))
      gone.abort()
      await asked
    }
    for (let round = 0; round < 10; round++) await Promise.all(Array.from({ length: 24 }, (_, i) => leave(i)))
    const listeners = async () => /zbell_live_listeners (\d+)/.exec(await world.metrics())?.[1]
    await until(listeners, (count) => count === '0')
  })

  test('a watched notification tells each device and ends in totals that add up', async () => {
    const stop = new AbortController()
    const id = await world.send({ to: { any: ['user:ada'] }, content: { title: 'T' } })
    const heard = listen(await world.backend.stream('watchNotification', { params: { app, id }, signal: stop.signal }))
    const last = () => heard.filter(({ event }) => event === 'notification').at(-1)?.data as Notification | undefined
    await until(last, (one) => one?.totals.shown === 2)
    const devices = heard.filter(({ event }) => event === 'delivery').map(({ data }) => data as Delivery)
    expect(new Set(devices.map(({ platform }) => platform))).toEqual(new Set(['ios', 'android']))
    for (const platform of ['ios', 'android'])
      expect(devices.filter((one) => one.platform === platform).at(-1)?.state).toBe('shown')
    stop.abort()
  })

  test('an app’s stream tells of its own notifications and devices, and of no other app’s', async () => {
    await world.makeApp('gull-air')
    const stop = new AbortController()
    const heard = listen(await world.backend.stream('watchApp', { params, signal: stop.signal }))
    const otherKey = await world.makeKey('gull-air', 'backend')
    const other = await fetch(`${world.url}/v1/apps/gull-air/notifications`, {
      method: 'POST',
      headers: { authorization: `Bearer ${otherKey}`, 'content-type': 'application/json' },
      body: JSON.stringify({ to: { any: ['everyone'] }, content: { title: 'Theirs' } }),
    })
    expect(other.status).toBe(202)
    const id = await world.send({ to: { any: ['user:ada'] }, content: { title: 'Ours' } })
    await until(
      () =>
        heard.some(
          ({ event, data }) =>
            event === 'notification' && (data as Notification).id === id && (data as Notification).totals.shown === 2,
        ),
      Boolean,
    )
    await world.handset(3, 'ios')
    await until(() => heard.some(({ event }) => event === 'devices'), Boolean)
    expect(JSON.stringify(heard)).not.toContain('Theirs')
    stop.abort()
  })

  test('however quickly something changes, what is told of it last is how it is', async () => {
    const stop = new AbortController()
    const id = await world.send({ to: { any: ['user:ada'] }, content: { title: 'T' }, paused: true })
    const heard = listen(await world.backend.stream('watchApp', { params, signal: stop.signal }))
    const states = () =>
      heard.flatMap(({ event, data }) =>
        event === 'notification' && (data as Notification).id === id ? [(data as Notification).state] : [],
      )
    for (let round = 0; round < 20; round++) {
      await Promise.all(
        Array.from({ length: 5 }, () =>
          world.backend.call('editNotification', {
            params: { app, id },
            body: { content: { title: `Round ${round}` } },
          }),
        ),
      )
    }
    await world.backend.call('holdNotification', { params: { app, id }, body: { hold: 'cancelled' } })
    await until(states, (all) => all.includes('cancelled'))
    expect(states().at(-1)).toBe('cancelled')
    stop.abort()
  })

  test('a stream wants a key as any call does', async () => {
    expect((await fetch(`${world.url}/v1/apps/${app}/events`)).status).toBe(401)
    await expect(world.backend.stream('watchNotification', { params: { app, id: 'nonsense' } })).rejects.toThrow(
      /no such notification/,
    )
  })

  test('what another process did is told as well', async () => {
    const stop = new AbortController()
    const heard = listen(await world.backend.stream('watchApp', { params, signal: stop.signal }))
    const told = () => heard.filter(({ event }) => event === 'devices').length
    await until(told, (count) => count === 1)
    await world.changeDirectly(
      'update devices set muted = 1, changed_at = utc_timestamp(3) + interval 1 second limit 1',
    )
    await until(told, (count) => count === 2)
    stop.abort()
  })
})

describe('roles', () => {
  const account = (role: 'viewer' | 'sender', email: string) =>
    world.operator.call('makeAccount', { body: { email, name: role, role, password: 'a long password' } })
  const signIn = async (email: string, password = 'a long password') => {
    const answer = await fetch(`${world.url}/v1/session`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ email, password }),
    })
    const session = (await answer.json()) as { csrf: string }
    return { status: answer.status, cookie: answer.headers.get('set-cookie')?.split(';')[0] ?? '', csrf: session.csrf }
  }
  const url = () => `${world.url}/v1/apps/${app}/notifications?environment=development`
  const send = (session: { cookie: string; csrf: string }) =>
    fetch(url(), {
      method: 'POST',
      headers: { cookie: session.cookie, 'x-bell-csrf': session.csrf, 'content-type': 'application/json' },
      body: JSON.stringify({ to: { any: ['user:ada'] }, content: { title: 'From the console' } }),
    })

  test('a viewer looks, a sender sends, and what was sent says by whom', async () => {
    await account('viewer', 'viewer@merrow-sound.example')
    await account('sender', 'sender@merrow-sound.example')
    const viewer = await signIn('viewer@merrow-sound.example')
    expect((await fetch(url(), { headers: { cookie: viewer.cookie } })).status).toBe(200)
    expect((await send(viewer)).status).toBe(403)
    const sender = await signIn('sender@merrow-sound.example')
    const sent = (await (await send(sender)).json()) as { id: string }
    expect((await world.notification(sent.id)).sentBy).toBe('account:sender@merrow-sound.example')
  })

  test('a session without an environment is asked for one, and ends when signed out', async () => {
    const viewer = await signIn('viewer@merrow-sound.example')
    const asked = await fetch(url().split('?')[0]!, { headers: { cookie: viewer.cookie } })
    expect([asked.status, ((await asked.json()) as { code: string }).code]).toEqual([422, 'invalid-request'])
    const out = await fetch(`${world.url}/v1/session`, {
      method: 'DELETE',
      headers: { cookie: viewer.cookie, 'x-bell-csrf': viewer.csrf },
    })
    expect(out.status).toBe(204)
    expect((await fetch(url(), { headers: { cookie: viewer.cookie } })).status).toBe(401)
  })

  atLength('guessing passwords has an end', async () => {
    const answers: number[] = []
    // At a name of its own each: one name alone is answered later and later.
    for (let i = 0; i < 12; i++)
      answers.push((await signIn(`viewer-${i}@merrow-sound.example`, 'a guess of mine')).status)
    expect(answers).toContain(429)
    expect(answers.filter((status) => status === 200)).toEqual([])
  })
})

describe('a second process on the same database', () => {
  test('works beside the first, and live updates cross over', async () => {
    const second = await world.startSecond()
    try {
      const stop = new AbortController()
      const heard = listen(await second.client.stream('watchApp', { params, signal: stop.signal }))
      const { items } = await world.backend.call('listDevices', { params })
      const id = await world.send({
        to: { any: [`device:${items.at(-1)!.id}`] },
        content: { title: 'Across' },
      })
      await until(
        () => heard.some(({ data }) => (data as Notification).id === id && (data as Notification).state === 'finished'),
        Boolean,
      )
      stop.abort()
    } finally {
      await second.stop()
    }
  })
})
