import { beforeEach, describe, expect, jest, test } from '@jest/globals'
import { Client } from '@zbell/contract/client'
import {
  type Arriving,
  answerWithinMs,
  History,
  memoryStorage,
  Outbox,
  Plans,
  ReceiptBook,
  Reception,
  type Where,
} from '../src/states.ts'

const id = (n: number) => `018bcfe5-6800-7fff-bfff-${String(n).padStart(12, '0')}`
const now = new Date('2026-11-23T12:00:00Z')
const storm = (more: Partial<Arriving> = {}): Arriving => ({ id: id(1), mode: 'show', title: 'Storm tonight', ...more })
const where = (more: Partial<Where> = {}): Where => ({
  permission: 'granted',
  appState: 'closed',
  doNotDisturb: false,
  zone: 'UTC',
  ...more,
})

let kept: Record<string, unknown>
let reception: Reception
beforeEach(() => {
  kept = {}
  reception = open()
})
const open = () => new Reception(memoryStorage(kept), new ReceiptBook(memoryStorage(kept), async () => undefined))
const receipts = () =>
  (kept.receipts as { waiting: { state: string; appState?: string; became?: string }[] }).waiting.map(
    ({ state, appState, became }) => [state, appState, became],
  )

describe('arriving', () => {
  test('is decided, remembered and written down', async () => {
    expect(await reception.arrive(storm(), where(), now)).toBe('shown')
    expect(receipts()).toEqual([
      ['received', 'closed', 'shown'],
      ['shown', 'closed', 'shown'],
    ])
    expect(await reception.history.list()).toMatchObject([{ id: id(1), title: 'Storm tonight' }])
    expect(await reception.arrive(storm(), where(), now)).toBe('second-copy')
    expect(await reception.history.unread()).toBe(1)
  })

  test('asks the app only while it is in front', async () => {
    const ask = jest.fn(() => 'drop' as const)
    expect(await reception.arrive(storm({ id: id(2) }), where({ appState: 'behind' }), now, ask)).toBe('shown')
    expect(ask).not.toHaveBeenCalled()
    expect(await reception.arrive(storm(), where({ appState: 'front' }), now, ask)).toBe('dropped')
    expect(ask).toHaveBeenCalledTimes(1)
    expect(await reception.history.list()).toHaveLength(1)
  })

  test.each<[string, () => Promise<'show'>]>([
    ['never answers', () => new Promise<'show'>(() => {})],
    ['fails', () => Promise.reject(new Error('a fault of the app'))],
  ])('an app that %s has said show, after 3 s at the latest', async (_name, ask) => {
    jest.useFakeTimers()
    const became = reception.arrive(storm(), where({ appState: 'front' }), now, ask)
    await jest.advanceTimersByTimeAsync(answerWithinMs)
    jest.useRealTimers()
    expect(await became).toBe('shown')
  })

  test('a wake shows nothing, is no part of the list, and sets the plans that it brings', async () => {
    const plan = { name: 'refresh', when: { afterSeconds: 60 }, content: { title: 'Timetable' } }
    const bad = [{ name: 'no time', content: { title: 'x' } }, 12, { ...plan, name: 'bad one!' }]
    const commands = { plans: [...bad, plan] }
    expect(await reception.arrive(storm({ mode: 'wake', commands }), where(), now)).toBe('woken')
    expect(receipts()).toEqual([['received', 'closed', 'woken']])
    expect(await reception.history.list()).toEqual([])
    expect((await reception.plans.list()).map(({ name }) => name)).toEqual(['refresh'])
    await reception.arrive(storm({ id: id(2), mode: 'wake', commands: { cancel: ['refresh'] } }), where(), now)
    expect(await reception.plans.list()).toEqual([])
  })
})

describe('opening', () => {
  test.each([
    ['closed', 'launched'],
    ['behind', 'brought-back'],
    ['front', 'already-in-front'],
  ] as const)('with the app %s says %s, and is kept over a restart until the app is ready', async (appState, how) => {
    await reception.arrive(storm(), where(), now)
    await reception.open(
      { id: id(1), navigate: '/sailings/101', action: 'ticket', data: { sailing: 101 } },
      appState,
      now,
    )
    const afterRestart = open()
    expect(await afterRestart.takeOpened()).toEqual([
      { id: id(1), how, navigate: '/sailings/101', action: 'ticket', data: { sailing: 101 } },
    ])
    expect(await afterRestart.takeOpened()).toEqual([])
    expect(await afterRestart.history.unread()).toBe(0)
  })
})

describe('the list of what rang', () => {
  test('keeps the last hundred, newest first, and knows what was read', async () => {
    const history = new History(memoryStorage())
    for (let n = 0; n < 105; n++) await history.add({ id: id(n), title: `n${n}`, atMs: n })
    const list = await history.list()
    expect([list.length, list[0]?.title, list.at(-1)?.title]).toEqual([100, 'n104', 'n5'])
    await history.read(1, [id(104), id(103)])
    expect(await history.unread()).toBe(98)
    await history.read(1)
    expect(await history.unread()).toBe(0)
  })
})

describe('plans on a device', () => {
  test('are set, replaced by name, listed, cancelled, and ring once even when two ask', async () => {
    const plans = new Plans(memoryStorage())
    const set = (name: string, afterSeconds: number) =>
      plans.set({ name, when: { afterSeconds }, content: { title: name } }, now.getTime(), 'UTC')
    await set('walk', 60)
    await set('walk', 120)
    await set('pack', 30)
    expect(await plans.next()).toBe(now.getTime() + 30_000)
    const at = now.getTime() + 125_000
    const rang = await Promise.all([plans.due(at, 'UTC', undefined), plans.due(at, 'UTC', undefined)])
    expect(rang.flat().map(({ name }) => name)).toEqual(['walk', 'pack'])
    await set('later', 600)
    expect(await plans.cancel(['later', 'never'])).toBe(1)
    await expect(set('not a name!', 1)).rejects.toThrow(RangeError)
  })
})

describe('what a device says', () => {
  const calls: string[] = []
  let status = 204
  const fetchIt = (async (url: string, init: RequestInit) => {
    if (status === 0) throw new TypeError('the network is away')
    calls.push(`${init.method} ${new URL(url).pathname}`)
    const problem = { code: 'unknown-topic', status, title: 't', detail: 'd', does: 'd', type: 'u' }
    return status < 400
      ? new Response(null, { status: 204 })
      : new Response(JSON.stringify(problem), { status, headers: { 'content-type': 'application/problem+json' } })
  }) as unknown as typeof fetch
  const outbox = () =>
    new Outbox(memoryStorage(kept), async () => new Client({ url: 'http://bell.example', bearer: 's', fetch: fetchIt }))

  test('waits without a network, over a restart, and goes in its order', async () => {
    status = 0
    const before = outbox()
    await before.add({ say: 'join', topic: 'route-4' })
    await before.add({ say: 'attributes', values: { homePier: 'Saltmere' } })
    expect(await before.flush()).toBe(false)
    status = 204
    expect(await outbox().flush()).toBe(true)
    expect(calls).toEqual(['PUT /v1/devices/me/topics/route-4', 'PATCH /v1/devices/me/attributes'])
  })

  test('what the service will never take is told once and does not hold up the rest', async () => {
    const box = outbox()
    await box.add({ say: 'join', topic: 'closed' })
    await box.add({ say: 'leave', topic: 'route-4' })
    status = 404
    await expect(box.flush()).rejects.toMatchObject({ problem: { code: 'unknown-topic' } })
    status = 204
    expect(await box.flush()).toBe(true)
    expect(calls.at(-1)).toBe('DELETE /v1/devices/me/topics/route-4')
  })
})
