import { describe, expect, test } from '@jest/globals'
import type { GatewayHealth, Health } from '@zbell/contract'
import { nameGateway, troublesOf } from '@zbell/contract/words'

const nowMs = Date.parse('2026-11-23T18:00:00Z')
const gateway = (more: Partial<GatewayHealth> = {}): GatewayHealth => ({
  environment: 'production',
  platform: 'ios',
  rehearsal: false,
  gateway: 'https://gateway.example',
  credential: 'signing-key 0011',
  state: 'open',
  restsUntil: null,
  inFlight: 0,
  inFlightLimit: 64,
  answers: { accepted: 100 },
  medianMs: 12,
  p99Ms: 40,
  ...more,
})
const health = (more: Partial<Health> = {}, gateways: GatewayHealth[] = [gateway()]): Health => ({
  databaseMs: 1,
  processes: [
    {
      id: '018bcfe5-6800-7fff-bfff-ffffffffffff',
      host: 'harbour',
      pid: 7,
      does: 'everything',
      startedAt: '2026-11-23T17:00:00Z',
      seenAt: '2026-11-23T17:59:58Z',
      memoryMb: 120,
      gateways,
    },
  ],
  queue: { due: 0, later: 0, paused: 0, oldestDueAt: null },
  devicesPerSecond: null,
  ...more,
})
const says = (one: Health) => troublesOf(one, nowMs).map((trouble) => trouble.says)

describe('what is wrong at the moment', () => {
  test('is nothing when all is well', () => expect(says(health())).toEqual([]))

  test('is that nobody sends, though somebody answers', () => {
    const [process] = health().processes
    const only = (does: 'http' | 'clock' | 'worker') => says(health({ processes: [{ ...process!, does }] }))
    expect(only('http')).toEqual(['No worker runs, so nothing is sent.'])
    expect(only('clock')).toEqual(['No worker runs, so nothing is sent.'])
    expect(only('worker')).toEqual([])
    expect(says(health({ processes: [] }))).toHaveLength(1)
  })

  test.each([
    [{ state: 'halted' }, 'The gateway for ios refuses the credential signing-key 0011.'],
    [
      { state: 'halted', credential: null, rehearsal: true },
      'The gateway for ios in rehearsal refuses the credential.',
    ],
    [{ state: 'resting', platform: 'web' }, 'The gateway for web gives no answer.'],
    [
      { answers: { accepted: 60, busy: 30, unavailable: 10 } },
      'The gateway for ios put off 40 % of the last five minutes’ requests.',
    ],
  ] as const)('is a gateway that does not do its part: %j', (more, wanted) => {
    expect(says(health({}, [gateway(more), gateway({ platform: 'android' })]))).toEqual([wanted])
  })

  test.each([[{ accepted: 3, busy: 5 }], [{ accepted: 95, busy: 5 }], [{ busy: 19 }], [{}]])(
    'is not a gateway that is busy now and then: %j',
    (answers) => expect(says(health({}, [gateway({ answers })]))).toEqual([]),
  )

  test('is a queue whose oldest waits for long, and not one that is only long', () => {
    const queue = (minutes: number, due = 12_000) => ({
      due,
      later: 5,
      paused: 1,
      oldestDueAt: new Date(nowMs - minutes * 60_000).toISOString(),
    })
    expect(says(health({ queue: queue(14) }))).toEqual(['12,000 devices wait for their turn, some for 14 minutes.'])
    expect(says(health({ queue: queue(9) }))).toEqual([])
    expect(says(health({ queue: queue(60, 0) }))).toEqual([])
  })

  test('is a database that takes its time', () => {
    expect(says(health({ databaseMs: 900 }))).toEqual(['The database takes 900 ms for the least of questions.'])
    expect(says(health({ databaseMs: 250 }))).toEqual([])
  })

  test('comes with what to do about each', () => {
    const all = troublesOf(
      health({
        processes: [],
        databaseMs: 900,
        queue: { due: 1, later: 0, paused: 0, oldestDueAt: '2026-01-01T00:00:00Z' },
      }),
      nowMs,
    )
    expect(all).toHaveLength(3)
    for (const { does } of all) expect(does).toMatch(/\.$/)
  })
})

test('a rehearsal is told apart from the real thing', () => {
  expect([nameGateway(gateway()), nameGateway(gateway({ rehearsal: true }))]).toEqual(['ios', 'ios in rehearsal'])
})
