import { describe, expect, test } from '@jest/globals'
import { alertsOf, type Condition, type GatewayState, nameGateway } from '../src/index.ts'

const nowMs = Date.parse('2026-11-23T18:00:00Z')
const gateway = (more: Partial<GatewayState> = {}): GatewayState => ({
  platform: 'ios',
  rehearsal: false,
  credential: 'signing-key 0011',
  state: 'open',
  answers: { accepted: 100 },
  ...more,
})
const condition = (more: Partial<Condition> = {}, gateways: GatewayState[] = [gateway()]): Condition => ({
  databaseMs: 1,
  jobs: [],
  unrung: [],
  unheard: [],
  runaways: [],
  reachedLimits: [],
  awaySources: [],
  unserved: [],
  failingWebhooks: [],
  faultyTriggers: [],
  stopped: undefined,
  processes: [{ does: 'everything', gateways }],
  queue: { due: 0, oldestDueMs: undefined },
  ...more,
})
const says = (one: Condition) => alertsOf(one, nowMs).map((trouble) => trouble.detail)

describe('what is wrong at the moment', () => {
  test('is nothing when all is well', () => expect(says(condition())).toEqual([]))

  test('is that nobody sends, though somebody answers', () => {
    const only = (...all: string[]) => says(condition({ processes: all.map((does) => ({ does, gateways: [] })) }))
    const noClock = 'No clock runs, so no schedule rings, no credential is checked and nothing old is forgotten.'
    expect(only('http')).toEqual(['No worker runs, so nothing is sent.', noClock])
    expect(only('clock')).toEqual(['No worker runs, so nothing is sent.'])
    expect(only('worker')).toEqual([noClock])
    expect(only('worker', 'clock')).toEqual([])
    expect(only()).toHaveLength(2)
  })

  test('is a platform whose devices nothing can reach, with what to do', () => {
    const [trouble] = alertsOf(condition({ unserved: [{ platform: 'android', reason: 'no-gateway' }] }), nowMs)
    expect(trouble?.detail).toContain(
      'Devices on android are registered and none of them can be rung: No gateway profile',
    )
    expect(trouble?.remedy).toContain('zbell setup')
  })

  test.each([
    [{ failures: 1, error: 'away' }, undefined],
    [{ failures: 3, error: 'away' }, 'The background job tidy has failed 3 times in a row: away.'],
    [{ lateSeconds: 170 }, undefined],
    [{ lateSeconds: 600 }, 'The background job tidy should have run 10 minutes ago.'],
    [{ everySeconds: 3_600, lateSeconds: 600 }, undefined],
  ])('is a background job with %o: %s', (more, expected) => {
    const job = { name: 'tidy', everySeconds: 60, failures: 0, error: null, lateSeconds: 0, ...more }
    expect(says(condition({ jobs: [job] }))).toEqual(expected === undefined ? [] : [expected])
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
    expect(says(condition({}, [gateway(more), gateway({ platform: 'android' })]))).toEqual([wanted])
  })

  test.each([[{ accepted: 3, busy: 5 }], [{ accepted: 95, busy: 5 }], [{ busy: 19 }], [{}]])(
    'is not a gateway that is busy now and then: %j',
    (answers) => expect(says(condition({}, [gateway({ answers })]))).toEqual([]),
  )

  test('is a queue whose oldest waits for long, and not one that is only long', () => {
    const queue = (minutes: number, due = 12_000) => ({ due, oldestDueMs: nowMs - minutes * 60_000 })
    expect(says(condition({ queue: queue(14) }))).toEqual(['12,000 devices wait for their turn, some for 14 minutes.'])
    expect(says(condition({ queue: queue(9) }))).toEqual([])
    expect(says(condition({ queue: queue(60, 0) }))).toEqual([])
  })

  test('is a database that takes its time', () => {
    expect(says(condition({ databaseMs: 900 }))).toEqual(['The database takes 900 ms for the least of questions.'])
    expect(says(condition({ databaseMs: 250 }))).toEqual([])
  })

  test('is a limit that the devices of the app have reached', () => {
    const reachedLimits = [{ what: 'occurrences from devices', max: 100_000, forSeconds: 1_790 }]
    expect(says(condition({ reachedLimits }))).toEqual([
      'The app has reached its limit of 100,000 occurrences from devices an hour: more are refused for 30 minutes.',
    ])
  })

  test('comes with what to do about each', () => {
    const all = alertsOf(
      condition({
        processes: [],
        databaseMs: 900,
        queue: { due: 1, oldestDueMs: nowMs - 86_400_000 },
      }),
      nowMs,
    )
    expect(all).toHaveLength(4)
    for (const { remedy } of all) expect(remedy).toMatch(/\.$/)
  })
})

test('a rehearsal is told apart from the real thing', () => {
  expect([nameGateway(gateway()), nameGateway(gateway({ rehearsal: true }))]).toEqual(['ios', 'ios in rehearsal'])
})

test('a schedule whose last time did not ring is told, with what to do', () => {
  const [missed, failed] = alertsOf(
    condition({
      unrung: [
        { name: 'evening', state: 'missed', says: 'nothing ran at its time', agoSeconds: 1_800 },
        { name: 'weekly', state: 'failed', says: 'There is no such template.', agoSeconds: 7_200 },
      ],
    }),
    0,
  )
  expect(missed?.detail).toBe('The schedule evening was missed 30 minutes ago: nothing ran at its time.')
  expect(failed?.detail).toBe('The schedule weekly could not ring 2 hours ago: There is no such template.')
  expect(failed?.remedy).toContain('Correct its template')
})
