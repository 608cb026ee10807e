import { beforeEach, describe, expect, test } from '@jest/globals'
import type { Outcome } from '@zbell/core'
import { KeptClient, type Protocol } from '../src/gateways/kept-client.ts'
import { ConcurrencyLimiter } from '../src/gateways/limiter.ts'

const address = { token: 't', p256dh: null, auth: null }
const rejected: Outcome = { is: 'refused', reason: 'credential-rejected' }
const accepted: Outcome = { is: 'accepted' }

let now: number
let answers: Outcome[]
let told: string[]
let closed: number

let backoffUntilMs = 0
beforeEach(() => {
  now = 1_000_000
  answers = []
  told = []
  closed = 0
  backoffUntilMs = 0
})

function client() {
  const protocol: Protocol = {
    prepare: async () => ({ send: async () => answers.shift() ?? accepted }),
    trial: async () => {
      throw new Error('nobody tries here')
    },
    get backoffUntilMs() {
      return backoffUntilMs
    },
    close: async () => {
      closed++
    },
  }
  const events = {
    onUsed: () => void told.push('used'),
    onRejected: () => void told.push('rejected'),
    onAnswer: () => {},
  }
  return new KeptClient(protocol, { gateway: null, credential: null }, new ConcurrencyLimiter(5), events, () => now)
}

async function sending(one: KeptClient, ...outcomes: Outcome[]) {
  const prepared = await one.prepare({} as never)
  answers.push(...outcomes)
  for (const _ of outcomes) await prepared.send(address)
}

describe('a client', () => {
  test('halts at the first refusal of its credential, and says so once', async () => {
    const one = client()
    expect(one.state).toBe('open')
    await sending(one, rejected, rejected)
    expect([one.state, told]).toEqual(['halted', ['rejected']])
  })

  test('other refusals are the deliveries’ own affair', async () => {
    const one = client()
    await sending(
      one,
      { is: 'refused', reason: 'too-large' },
      { is: 'token-gone' },
      { is: 'busy' },
      { is: 'unavailable' },
    )
    expect([one.state, told]).toEqual(['open', []])
  })

  test('lets one device through after a while, and halts again for the rest until that one is answered', async () => {
    const one = client()
    await sending(one, rejected)
    now += 19_999
    expect(one.state).toBe('halted')
    now += 1
    expect([one.state, one.state, one.state]).toEqual(['open', 'halted', 'halted'])
    await sending(one, rejected)
    expect([one.state, told]).toEqual(['halted', ['rejected']])
    now += 20_000
    expect(one.state).toBe('open')
    await sending(one, accepted)
    expect([one.state, told]).toEqual(['open', ['rejected', 'used']])
  })

  test('tells of its use once a minute', async () => {
    const one = client()
    await sending(one, accepted, accepted, accepted)
    expect(told).toEqual(['used'])
    now += 60_000
    await sending(one, accepted)
    expect(told).toEqual(['used', 'used'])
  })

  test('is stale once it is replaced, halted or not, and its protocol is closed', async () => {
    const one = client()
    await sending(one, rejected)
    await one.replace()
    expect([one.state, closed]).toEqual(['stale', 1])
  })
})

describe('how a client does', () => {
  test('is told by what was answered of late', async () => {
    const one = client()
    await sending(one, accepted, { is: 'busy' }, accepted)
    expect(one.health).toMatchObject({
      state: 'open',
      restsUntil: null,
      inFlight: 0,
      inFlightLimit: 5,
      answers: { accepted: 2, busy: 1 },
      medianMs: expect.any(Number),
    })
    now += 6 * 60_000
    expect(one.health).toMatchObject({ answers: {}, medianMs: null, p99Ms: null })
  })

  test('is halted until something is taken again, and asking changes nothing', async () => {
    const one = client()
    await sending(one, rejected)
    now += 30_000
    expect([one.health.state, one.health.state]).toEqual(['halted', 'halted'])
    expect(one.state).toBe('open')
    await sending(one, accepted)
    expect(one.health.state).toBe('open')
  })

  test('is resting for as long as its origin does', () => {
    const one = client()
    backoffUntilMs = now + 4_000
    expect(one.health).toMatchObject({ state: 'resting', restsUntil: new Date(backoffUntilMs).toISOString() })
    now += 4_000
    expect(one.health).toMatchObject({ state: 'open', restsUntil: null })
  })
})
