import { createServer } from 'node:net'
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, test } from '@jest/globals'
import { exampleProfile, profileKinds } from '@zbell/contract/words'
import type { Message } from '@zbell/core'
import { sql } from 'drizzle-orm'
import fc from 'fast-check'
import { patience } from '../../../e2e/harness/programs.ts'
import { inScope } from '../../../e2e/harness/scope.ts'
import { type EvaluationLimits, EvaluatorPool } from '../src/evaluation/evaluator-pool.ts'
import { lintProfile } from '../src/gateways/lint-profile.ts'
import { openProfileProtocol } from '../src/gateways/open-protocol.ts'
import { ProfileRefused, Profiles } from '../src/gateways/profiles.ts'
import {
  deleteProfile,
  findProfile,
  listProfiles,
  profilesInPlace,
  saveProfile,
  useProfile,
} from '../src/gateways/store/profiles.ts'
import { type ScratchApp, scratchApp } from './scratch-database.ts'

let app: ScratchApp
let profiles: Profiles
/** Anew for each test: one whose expression was stopped rests for a while. */
let evaluators: EvaluatorPool
beforeAll(async () => {
  app = await scratchApp()
})
afterAll(() => app.scratch.close())
const withLeave = (allowPrivate: boolean) =>
  new Profiles(
    {
      'gateways.allowPrivateAddresses': allowPrivate,
      'gateways.ios.profile': '',
      'gateways.android.profile': '',
    } as never,
    app.database,
    evaluators,
  )
beforeEach(() => {
  evaluators = new EvaluatorPool({ timeMs: patience(1_000) })
  profiles = withLeave(false)
})
afterEach(async () => {
  evaluators.close()
  await app.database.change(sql`delete from gateway_profiles`)
})

const place = (platform: 'ios' | 'android' = 'ios', appNo = app.scope.app.no) =>
  ({ appNo, environment: 'development', platform }) as const

type Parts = {
  readonly body?: string
  readonly headers?: string
  readonly path?: string
  readonly origin?: string
  readonly more?: string
}
const written = ({
  body = '{ "to": token }',
  headers = '{}',
  path = '/a/{token}',
  origin = 'https://gateway.example',
  more = '',
}: Parts = {}) =>
  `profile: ours
platform: ios
origins: { development: ${origin} }
authentication: { kind: client-certificate }
request:
  path: ${JSON.stringify(path)}
  headers: ${JSON.stringify(headers)}
  body: ${JSON.stringify(body)}
limits: { bodyBytes: 4096 }
answers: [{ status: 200, outcome: accepted }]
${more}`

const message: Message = {
  notification: 'n',
  content: { title: 'T' },
  mode: 'show',
  urgency: 'normal',
  ttlSeconds: 60,
  expiresSeconds: 1,
  identifier: 'example.ferries',
  fact: {},
}

const faultsOf = async (act: () => Promise<unknown>): Promise<readonly { line: number; says: string }[]> => {
  try {
    await act()
  } catch (error) {
    if (error instanceof ProfileRefused) return error.faults
    throw error
  }
  throw new Error('it was not refused')
}

test.each(profileKinds.flatMap((kind) => [[kind, 'ios'] as const, [kind, 'android'] as const]))(
  'the example of %s for %s can be used as it is',
  (kind, platform) => {
    const { faults, profile } = lintProfile(exampleProfile(kind, platform))
    expect(faults).toEqual([])
    expect([profile?.authentication.kind, profile?.platform]).toEqual([kind, platform])
  },
)

describe('what is wrong with a profile', () => {
  test('is placed in its list, its condition, its certificates', () => {
    const text = written({ more: 'ca: |\n  -----BEGIN CERTIFICATE-----\n  AAAA\n  -----END CERTIFICATE-----' }).replace(
      '{ status: 200, outcome: accepted }',
      '{ status: 200, outcome: accepted }, { when: "((", outcome: busy }',
    )
    const { faults } = lintProfile(text)
    expect(faults.map(({ line, says }) => [line, says.split(':')[0]])).toEqual([
      [10, 'answers.1.when'],
      [11, 'ca'],
    ])
  })

  test('is named fifty times at most, in no more time than its length', () => {
    const text = written({ more: Array.from({ length: 4_000 }, (_, n) => `colour${n}: red`).join('\n') })
    // By processor time: while others have the processor, none of it is spent.
    const { user: before } = process.cpuUsage()
    expect(lintProfile(text).faults).toHaveLength(50)
    expect((process.cpuUsage().user - before) / 1_000).toBeLessThan(patience(5_000))
  })

  test('is said also of what is too long, refers to itself too often, or is nested without end', async () => {
    const bomb = `a: &a [x]\n${Array.from({ length: 20 }, (_, n) => `${'bcdefghijklmnopqrstu'[n]}: &${'bcdefghijklmnopqrstu'[n]} [${Array(9).fill(`*${'abcdefghijklmnopqrstu'[n]}`)}]`).join('\n')}`
    const words: readonly [string, RegExp][] = [
      ['x'.repeat(64_001), /more than 64,000 characters/],
      [bomb, /stands for itself in too many places/],
      // Reading it takes a process to the end of its stack, which can take long.
      [`a: ${'['.repeat(20_000)}`, /brackets stand too deep|was stopped|memory/],
      [
        Array.from(
          { length: 1_500 },
          (_, n) => `k${n}: &a${n} [*a${Math.max(0, n - 1)}, *a${Math.max(0, n - 1)}]`,
        ).join('\n'),
        /longer than [0-9.]+ seconds|Unresolved alias|too many places/,
      ],
    ]
    for (const [text, says] of words)
      expect((await profiles.lint({ appNo: 1, use: 'a' }, text)).faults[0]?.says).toMatch(says)
    expect(lintProfile(written({ body: '('.repeat(15_000) })).faults[0]?.says).toMatch(/request.body/)
  })

  test.each([
    ['of another platform', written().replace('ios', 'android'), 2, /not for ios/],
    [
      'with a file of the service’s machine',
      written({ more: 'caFile: /etc/passwd' }),
      11,
      /put the certificates under ca/,
    ],
    ['without an origin here', written().replace('development', 'production'), 3, /none for development/],
    ['into the private network', written({ origin: 'https://10.0.0.7' }), 3, /private network/],
    [
      'to this machine, by a second origin',
      written({ origin: '[https://gateway.example, "https://[::1]"]' }),
      3,
      /private network/,
    ],
    ['to the metadata of a cloud', written({ origin: 'https://169.254.169.254' }), 3, /private network/],
  ])('is placed when it is one %s', async (_name, text, line, says) => {
    const [fault] = await faultsOf(() => profiles.written(place(), text))
    expect(fault).toMatchObject({ line, says: expect.stringMatching(says) })
  })

  test('is nothing where the operator allowed private networks', async () => {
    const free = withLeave(true)
    expect((await free.written(place(), written({ origin: 'https://10.0.0.7' }))).origins('development')).toEqual([
      'https://10.0.0.7',
    ])
  })
})

describe('an app’s own profile', () => {
  const saved = (text: string) => ({
    name: 'ours',
    asksFor: 'client-certificate',
    outdatedFrom: null,
    text,
    madeBy: 'test',
  })
  const inSlots = async () =>
    Object.fromEntries((await profilesInPlace(app.database, place())).map(({ slot, version }) => [slot, version]))

  test('is a version: in use at once, taken back, given up, and used again', async () => {
    expect(await profiles.of(place())).toBeUndefined()
    await saveProfile(app.database, place(), saved(written()), true)
    expect((await profiles.of(place()))?.version).toBe(1)
    await saveProfile(app.database, place(), saved(written({ path: '/b' })), true)
    expect(await inSlots()).toEqual({ 'in-use': 2, waiting: 1 })
    expect((await profiles.of(place()))?.profile.request.path).toBe('/b')
    await useProfile(app.database, place(), 1)
    expect(await inSlots()).toEqual({ 'in-use': 1, waiting: 2 })
    await saveProfile(app.database, place(), saved(written({ path: '/c' })), false)
    expect(await inSlots()).toEqual({ 'in-use': 1, waiting: 3 })
    expect((await findProfile(app.database, place(), 2))?.slot).toBeNull()
    await deleteProfile(app.database, place())
    expect([await inSlots(), await profiles.of(place())]).toEqual([{ waiting: 1 }, undefined])
  })

  test('that is saved again as it is makes no other version', async () => {
    for (let n = 0; n < 3; n++) await saveProfile(app.database, place(), saved(written()), true)
    expect((await listProfiles(app.database, place(), 10)).map(({ version }) => version)).toEqual([1])
  })

  test('is kept in its last fifty versions', async () => {
    for (let n = 0; n < 55; n++) await saveProfile(app.database, place(), saved(written({ path: `/${n}` })), true)
    const kept = await listProfiles(app.database, place(), 100)
    expect([kept.length, kept.at(-1)?.version, kept[0]?.slot]).toEqual([50, 6, 'in-use'])
  })

  test('is in one slot alone, whoever saves and changes over at once', async () => {
    await Promise.all(
      Array.from({ length: 12 }, (_, n) =>
        saveProfile(app.database, place(), saved(written({ path: `/${n}` })), n % 2 === 0),
      ),
    )
    const rows = await listProfiles(app.database, place(), 100)
    expect(rows.map(({ version }) => version)).toEqual(Array.from({ length: 12 }, (_, n) => 12 - n))
    expect(rows.filter(({ slot }) => slot === 'in-use')).toHaveLength(1)
  })

  test('belongs to its app, environment and platform', async () => {
    await saveProfile(app.database, place(), saved(written()), true)
    expect(await profiles.of({ ...place(), environment: 'production' })).toBeUndefined()
    expect(await profiles.of(place('ios', app.scope.app.no + 1))).toBeUndefined()
    expect(await profiles.of(place('android'))).toBeUndefined()
  })
})

test('whatever somebody writes as a profile, there is an answer: the profile, or faults that stand in it', () => {
  const whole = exampleProfile('signed-token', 'ios')
  const put = fc.oneof(
    fc.string({ unit: 'binary', maxLength: 6 }),
    fc.constantFrom('\n', ': ', '&a ', '*a', '<<: ', '[', '{', '|', '!!js ', '"', '---', '\t', '{a}', '(', '{fact.x}'),
  )
  fc.assert(
    fc.property(
      fc.array(fc.tuple(fc.nat(whole.length), fc.nat(12), put), { minLength: 1, maxLength: 4 }),
      (changes) => {
        const text = changes.reduce((so, [at, cut, more]) => so.slice(0, at) + more + so.slice(at + cut), whole)
        const { profile, faults } = lintProfile(text)
        expect(profile === undefined).toBe(faults.length > 0)
        const lines = text.split('\n').length
        for (const { line, column } of faults) {
          expect(line >= 1 && line <= lines + 1).toBe(true)
          expect(column).toBeGreaterThanOrEqual(1)
        }
      },
    ),
    { numRuns: inScope({ default: 60, all: 300, long: 10_000 }) },
  )
})

describe('a profile of hostile making', () => {
  const shape = async (text: string, appNo = app.scope.app.no) =>
    (await profiles.written(place('ios', appNo), text)).shaper.shape(message)
  const loop = '($f := function($n) { $f($n + 1) }; $f(0))'

  test.each([
    ['loops for ever', loop, /took longer than [0-9.]+ seconds/],
    ['takes all memory', '($f := function($l) { $f($append($l, $l)) }; $f([1..1000]))', /memory|longer/],
    ['has a pattern that never ends', `$match("${'a'.repeat(40)}!", /^(a+)+$/) ? "x" : "y"`, /longer|expression/],
    ['makes more than a request can be', '$pad("x", 1200000)', /characters|longer/],
  ])('harms nobody else: one that %s', async (_name, body, says) => {
    const good = written()
    await shape(good, 2)
    const bad = shape(written({ body }))
    // While it is at it, others are shaped as ever.
    let shaped = 0
    const others = (async () => {
      for (; shaped < 20; shaped++) await shape(good, 2)
    })()
    await expect(bad).rejects.toThrow(says)
    await others
    expect(shaped).toBe(20)
  })

  test('rests, and says so, instead of taking two seconds each time', async () => {
    await expect(shape(written({ body: loop }))).rejects.toThrow(/stopped/)
    const startMs = performance.now()
    for (let n = 0; n < 50; n++) await expect(shape(written())).rejects.toThrow(/tried again soon/)
    expect(performance.now() - startMs).toBeLessThan(patience(30_000))
  })

  test('holds up no stop: what it is at is broken off, and what waits hears so', async () => {
    const own = new EvaluatorPool({ timeMs: 500 })
    const limits: EvaluationLimits = { maxWaiting: 10, maxCharacters: 1_000, backoffMs: 0, maxTries: 1 }
    const evaluate = (use: string, expression: string) =>
      own.run({ appNo: 1, use }, limits, 'jsonata', { expressions: [expression], json: '{}' })
    // The first is begun, so that there is a process to be ended.
    await evaluate('a', '1')
    const all = ['a', 'a', 'b'].map((use) => evaluate(use, loop).catch((error: Error) => error.message))
    await new Promise(setImmediate)
    own.close()
    expect(await Promise.all(all)).toEqual([
      'used more memory than it may have, or crashed',
      'was not started: the service is stopping',
      'was not started: the service is stopping',
    ])
    await expect(evaluate('c', '1')).rejects.toThrow('the service is stopping')
  })

  test('whose condition never ends leaves the answer to the rows below it', async () => {
    const used = await profiles.written(place(), written())
    expect(await used.holds(loop, { status: 200, headers: {}, body: '' })).toBe(false)
  })

  test('that makes headers which break framing makes no request', async () => {
    await expect(shape(written({ headers: '{ "a": "b\\r\\nx: y" }' }))).rejects.toThrow(/no header can have/)
  })

  test('whose origin’s name leads into the private network reaches nobody there', async () => {
    let connections = 0
    const inside = createServer((socket) => {
      connections++
      socket.destroy()
    })
    await new Promise<void>((done) => inside.listen(0, '127.0.0.1', done))
    const { port } = inside.address() as { port: number }
    // The name passes when it is saved; the address that it stands for is looked at when it is called.
    const ready = await profiles.written(place(), written({ origin: `https://localhost:${port}` }))
    const protocol = openProfileProtocol({
      ready,
      origins: ready.origins('development'),
      credential: { kind: 'client-certificate', key: '', certificates: [] },
      identifier: 'x',
      http: { ca: [], timeoutMs: 5_000 },
    })
    if (typeof protocol === 'string') throw new Error(protocol)
    const request = await protocol.prepare({ ...message, id: 'n', expiresAtMs: Date.now() + 60_000 })
    expect(await request.send({ token: 't', p256dh: null, auth: null })).toEqual({
      is: 'refused',
      reason: 'address-not-allowed',
    })
    await protocol.close()
    expect(connections).toBe(0)
    inside.close()
  })
})
