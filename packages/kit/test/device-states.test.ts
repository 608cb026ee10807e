import { beforeEach, describe, expect, test } from '@jest/globals'
import type { Receipt } from '@zbell/contract'
import { Client } from '@zbell/contract/client'
import { Arrivals, memoryStorage, ReceiptBook, Registration } from '../src/states.ts'

const id = (n: number) => `018bcfe5-6800-7fff-bfff-${String(n).padStart(12, '0')}`
const at = new Date('2026-01-01T12:00:00Z')
const json = (status: number, body: unknown) =>
  new Response(JSON.stringify(body), {
    status,
    headers: { 'content-type': status < 400 ? 'application/json' : 'application/problem+json' },
  })

/** A service that answers what it is told to. */
class Answering {
  readonly calls: { method: string; path: string; bearer: string; body: unknown }[] = []
  answers: (() => Response)[] = []
  readonly fetch = (async (url: string, init: RequestInit) => {
    const headers = init.headers as Record<string, string>
    this.calls.push({
      method: init.method ?? 'GET',
      path: new URL(url).pathname,
      bearer: headers.authorization!.slice(7),
      body: init.body === undefined ? undefined : JSON.parse(String(init.body)),
    })
    const answer = this.answers.shift()
    if (!answer) throw new TypeError('the network is away')
    return answer()
  }) as typeof fetch
}

let service: Answering
beforeEach(() => {
  service = new Answering()
})

describe('arrivals', () => {
  test('a second copy is known, even when both come at once', async () => {
    const arrivals = new Arrivals(memoryStorage())
    expect(
      await Promise.all([arrivals.firstTime(id(1)), arrivals.firstTime(id(1)), arrivals.firstTime(id(2))]),
    ).toEqual([true, false, true])
  })
  test('it is known after a restart', async () => {
    const kept = {}
    await new Arrivals(memoryStorage(kept)).firstTime(id(1))
    expect(await new Arrivals(memoryStorage(kept)).firstTime(id(1))).toBe(false)
  })
})

describe('receipts', () => {
  const book = (kept: Record<string, unknown> = {}) =>
    new ReceiptBook(
      memoryStorage(kept),
      async () => new Client({ url: 'http://bell.example', bearer: 'secret', fetch: service.fetch }),
    )
  const sent = (call: number) => (service.calls[call]!.body as { receipts: Receipt[] }).receipts

  test('go together, and each only once', async () => {
    service.answers = [() => json(200, { taken: 2, unknown: 0 })]
    const receipts = book()
    await receipts.add(id(1), 'received', at)
    await receipts.add(id(1), 'shown', at)
    await receipts.add(id(1), 'shown', at)
    expect(await receipts.flush()).toBe(true)
    await receipts.add(id(1), 'shown', at)
    expect(await receipts.flush()).toBe(true)
    expect(service.calls).toHaveLength(1)
    expect(sent(0).map(({ state }) => state)).toEqual(['received', 'shown'])
  })

  test('wait while the network is away, over a restart too', async () => {
    const kept = {}
    const receipts = book(kept)
    await receipts.add(id(1), 'shown', at)
    expect(await receipts.flush()).toBe(false)
    service.answers = [() => json(200, {})]
    expect(await book(kept).flush()).toBe(true)
    expect(sent(1)).toEqual([{ notification: id(1), state: 'shown', at: at.toISOString() }])
  })

  test('wait while the service is in trouble, and go on past what it will never take', async () => {
    const receipts = book()
    await receipts.add(id(1), 'shown', at)
    service.answers = [() => json(503, { status: 503 })]
    expect(await receipts.flush()).toBe(false)
    service.answers = [() => json(422, { status: 422 })]
    expect(await receipts.flush()).toBe(true)
  })

  test('go a hundred at a time', async () => {
    service.answers = [() => json(200, {}), () => json(200, {}), () => json(200, {})]
    const receipts = book()
    for (let i = 0; i < 250; i++) await receipts.add(id(i), 'shown', at)
    await receipts.flush()
    expect([sent(0).length, sent(1).length, sent(2).length]).toEqual([100, 100, 50])
  })
})

describe('registration', () => {
  const place = () => ({ url: 'http://bell.example', appKey: 'app-key', fetch: service.fetch })
  const body = { platform: 'ios', token: 'x'.repeat(32), permission: 'granted' } as const
  const registered = () => json(201, { device: { id: id(7) }, secret: 'device-secret' })

  test('registers once, and afterwards only tells what is true now', async () => {
    service.answers = [registered, () => json(200, { id: id(7) })]
    const registration = new Registration(memoryStorage(), place())
    await registration.keep(body)
    await registration.keep(body)
    expect(service.calls.map(({ method, path, bearer }) => [method, path, bearer])).toEqual([
      ['POST', '/v1/devices', 'app-key'],
      ['PATCH', '/v1/devices/me', 'device-secret'],
    ])
    expect(await registration.deviceId()).toBe(id(7))
  })

  test('a new token is told as one, and a secret that the service forgot is a new registration', async () => {
    service.answers = [registered, registered, () => json(401, { status: 401 }), registered]
    const registration = new Registration(memoryStorage(), place())
    await registration.keep(body)
    await registration.keep({ ...body, token: 'y'.repeat(32) })
    await registration.keep({ ...body, token: 'y'.repeat(32) })
    expect(service.calls.map(({ method }) => method)).toEqual(['POST', 'PATCH', 'PATCH', 'POST'])
  })

  test('a second page that registers at the same moment waits, and shows the secret that the first one kept', async () => {
    const storage = memoryStorage()
    const secondPage = new Registration(storage, place())
    const tooSoon = () => json(409, { status: 409, code: 'register-again', title: 'A moment ago.' })
    service.answers = [tooSoon, registered, registered]
    const waiting = secondPage.keep(body)
    await new Registration(storage, place()).keep(body)
    await waiting
    const shown = service.calls.map(({ body }) => body as { secret?: string; installation: string })
    expect(shown.map(({ secret }) => secret)).toEqual([undefined, undefined, 'device-secret'])
  })

  test('whose the device is, is what the service said last', async () => {
    const said = (user: string | null) => ({ id: id(7), user })
    const registration = new Registration(memoryStorage(), place())
    expect(await registration.user()).toBeNull()
    service.answers = [
      () =>
        json(201, { device: said(null), userRefused: { code: 'proof-missing', detail: '' }, secret: 'device-secret' }),
      () => json(200, { ...said('ada'), userRefused: null }),
    ]
    expect((await registration.keep({ ...body, user: 'ada' })).userRefused?.code).toBe('proof-missing')
    expect(await registration.user()).toBeNull()
    await registration.change({ user: 'ada', proof: 'signed' })
    expect(await registration.user()).toBe('ada')
  })

  test('nothing speaks for a device that is not registered', async () => {
    const registration = new Registration(memoryStorage(), place())
    expect(await registration.client()).toBeUndefined()
    expect(await registration.change({ muted: true })).toBeUndefined()
    expect(service.calls).toHaveLength(0)
  })
})
