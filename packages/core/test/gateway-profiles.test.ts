import { readFileSync } from 'node:fs'
import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import { parse } from 'yaml'
import { inScope } from '../../../e2e/harness/scope.ts'
import {
  type AnswerRow,
  evaluator,
  explainAnswer,
  factsSpokenOf,
  gatewayProfile,
  gatewayProfileSchema,
  type Holds,
  jsonField,
  jsonTemplate,
  type Message,
  originsOf,
  ProfileAtFault,
  pathTemplate,
  RequestShaper,
  readsGoodBodies,
  retryAfterMs,
  tokenMark,
} from '../src/index.ts'

const profile = (name: string) =>
  gatewayProfile.parse(parse(readFileSync(new URL(`../../standins/profiles/${name}.yaml`, import.meta.url), 'utf8')))

const message: Message = {
  notification: '018bcfe5-6800-7fff-bfff-ffffffffffff',
  content: {
    title: 'Kittiwake is "late"',
    body: 'Berth 2',
    navigate: '/sailings/101',
    tag: 's-101',
    data: { sailing: 101 },
  },
  mode: 'show',
  urgency: 'high',
  ttlSeconds: 600,
  expiresSeconds: 1_700_000_600,
  identifier: 'example.ferries',
  fact: { project: 'merrow-sound' },
}

test('the JSON Schema for editors says what the profile says', () => {
  const file = new URL('../../../docs/gateway-profile.schema.json', import.meta.url)
  expect(JSON.parse(readFileSync(file, 'utf8'))).toEqual(gatewayProfileSchema())
})

describe('shaping', () => {
  test('the iOS stand-in’s request is what its profile says', async () => {
    const shaped = await new RequestShaper(profile('standin-ios')).shape(message)
    expect(shaped.path('a/b')).toBe('/ring/a%2Fb')
    expect(shaped.headers).toEqual({
      'harbour-app': 'example.ferries',
      'harbour-weight': 'lead',
      'harbour-until': '1700000600',
      'harbour-slot': 's-101',
    })
    expect(JSON.parse(shaped.body('token'))).toEqual({
      bell: { id: message.notification },
      harbour: {
        face: { headline: 'Kittiwake is "late"', text: 'Berth 2' },
        place: '/sailings/101',
      },
      sailing: 101,
    })
  })

  test('the Android stand-in’s body carries each token in its place', async () => {
    const shaped = await new RequestShaper(profile('standin-android')).shape({ ...message, mode: 'wake' })
    expect(JSON.parse(shaped.body('one "token"'))).toMatchObject({
      berth: 'one "token"',
      keepSeconds: 600,
      kind: 'stir',
      hold: { sailing: '101', bell: JSON.stringify({ id: message.notification }) },
    })
    expect(JSON.parse(shaped.body('another'))).not.toHaveProperty('head')
  })

  test('filling a token into a template is the same as writing it as JSON', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'binary' }), fc.string(), (token, other) => {
        expect(
          JSON.parse(jsonTemplate(JSON.stringify({ to: tokenMark, also: [`x${tokenMark}`], other }))(token)),
        ).toEqual({
          to: token,
          also: [`x${token}`],
          other,
        })
      }),
    )
  })

  test('a path may name the app too', () => {
    expect(pathTemplate('/apps/{identifier}/{token}', 'a b')('t')).toBe('/apps/a%20b/t')
  })

  test('a path may hold facts of the account, each as one segment; one that is missing is said by name', async () => {
    const path = '/projects/{fact.project}/{token}'
    expect(pathTemplate(path, 'a', { project: 'a/b?c' })('t')).toBe('/projects/a%2Fb%3Fc/t')
    const given = profile('standin-android')
    await expect(new RequestShaper(given).shape({ ...message, fact: {} })).rejects.toThrow(/there is no fact project/)
  })

  test('neither a fact nor a token leads to another path', () => {
    for (const text of ['.', '..'])
      expect(new URL(`https://h.example${pathTemplate('/a/{token}/b', '')(text)}`).pathname.split('/')).toHaveLength(4)
  })

  test.each([
    ['{ "host": "other.example" }', /not the profile’s to set/],
    ['{ "Content-Length": "3" }', /not the profile’s to set/],
    ['{ "transfer-encoding": "chunked" }', /not the profile’s to set/],
    ['{ "AUTHORIZATION": "mine" }', /not the profile’s to set/],
    ['{ ":path": "/other" }', /no name of a header/],
    ['{ "a b": "c" }', /no name of a header/],
    ['{ "a": "b\\r\\nc: d" }', /no header can have/],
    ['{ "a": "é\u0142" }', /no header can have/],
    ['{ "a": { "b": 1 } }', /no text of a/],
    ['[1]', /makes no object/],
    ['$merge([1..50].{ "h" & $: "x" })', /more than 40/],
  ])('headers that are none, or not for a profile, are refused: %s', async (headers, says) => {
    const given = profile('standin-ios')
    const shaper = new RequestShaper({ ...given, request: { ...given.request, headers } })
    const refused = await shaper.shape(message).catch((error: unknown) => error)
    expect(refused).toBeInstanceOf(ProfileAtFault)
    expect((refused as Error).message).toMatch(says)
  })

  test('the facts that a request speaks of are found in its path and its expressions', () => {
    const given = profile('standin-android')
    const request = { ...given.request, headers: '{ "team": fact.team }', body: '{ "a": fact.project & fact.team }' }
    expect(factsSpokenOf({ ...given, request }).sort()).toEqual(['project', 'team'])
  })

  test('an expression that makes no object of headers is refused', async () => {
    const given = profile('standin-ios')
    const shaper = new RequestShaper({ ...given, request: { ...given.request, headers: '1' } })
    await expect(shaper.shape(message)).rejects.toThrow(/makes no object/)
  })
})

describe('answers', () => {
  const rows: AnswerRow[] = [
    { status: 200, outcome: 'accepted', reference: 'Slip' },
    { status: 400, field: '/why', equals: 'gone', outcome: 'token-gone' },
    { status: [400, 404], outcome: 'bad-request' },
    { status: 429, outcome: 'busy' },
    { status: '5xx', outcome: 'unavailable' },
  ]
  const explain = (status: number, body = '', headers = {}) => explainAnswer(rows, { status, headers, body }, 0)

  test.each([
    ['the first row that fits counts', explain(400, '{"why":"gone"}'), { is: 'token-gone' }],
    [
      'a row whose field does not fit is passed over',
      explain(400, '{"why":"other"}'),
      { is: 'refused', reason: 'bad-request' },
    ],
    ['a body that is no JSON has no fields', explain(400, '<html>'), { is: 'refused', reason: 'bad-request' }],
    ['a reference is read from its header', explain(200, '', { slip: 'a-1' }), { is: 'accepted', ref: 'a-1' }],
    ['busy honours Retry-After', explain(429, '', { 'retry-after': '7' }), { is: 'busy', retryAfterMs: 7_000 }],
    ['a class of answers fits them all', explain(502), { is: 'unavailable' }],
    ['what no row explains is said to be so', explain(302), { is: 'refused', reason: 'unexpected-answer' }],
  ])('%s', (_name, outcome, expected) => {
    expect(outcome).toMatchObject(expected)
  })

  describe('by conditions', () => {
    const evaluate = evaluator()
    const holds: Holds = async (when, seen) => (await evaluate([when], seen))[0] === 'true'
    const table: AnswerRow[] = [
      { when: '"empty" in body.fault.remarks.code', outcome: 'token-gone' },
      { status: 202, when: 'headers.lane = "slow"', outcome: 'busy', retryAfter: { body: '/fault/wait' } },
      { status: 202, outcome: 'accepted', reference: { body: '/signal/id' } },
      { status: 429, outcome: 'busy', retryAfter: { header: 'Come-Back' } },
      { status: 400, outcome: 'bad-request' },
    ]
    const ask = (status: number, body: unknown = '', headers = {}) =>
      explainAnswer(table, { status, headers, body: typeof body === 'string' ? body : JSON.stringify(body) }, 0, holds)

    test('a code in any of several details is found', async () => {
      const remarks = [{ of: 'guide' }, { of: 'berth', code: 'empty' }]
      expect(await ask(400, { fault: { remarks } })).toMatchObject({ is: 'token-gone' })
      expect(await ask(400, { fault: { remarks: [{ code: 'full' }] } })).toMatchObject({ reason: 'bad-request' })
      expect(await ask(400, '<html>')).toMatchObject({ reason: 'bad-request' })
    })

    test('headers are seen, and what does not hold leads to the next row', async () => {
      const body = { signal: { id: 42 }, fault: { wait: '1.5s' } }
      expect(await ask(202, body, { lane: 'slow' })).toMatchObject({ is: 'busy', retryAfterMs: 1_500 })
      expect(await ask(202, body)).toMatchObject({ is: 'accepted', ref: '42' })
    })

    test('how long to wait is read where the row says, and in Retry-After otherwise', async () => {
      expect(await ask(429, '', { 'come-back': '3' })).toMatchObject({ retryAfterMs: 3_000 })
      expect(await ask(429, '', { 'retry-after': '4' })).toMatchObject({ retryAfterMs: 4_000 })
    })

    test('whoever evaluates none passes over them', () => {
      const answer = { status: 400, headers: {}, body: '{"fault":{"remarks":[{"code":"empty"}]}}' }
      expect(explainAnswer(table, answer, 0)).toMatchObject({ reason: 'bad-request' })
    })

    test.each([
      [table, true],
      [[{ status: 200, outcome: 'accepted', reference: { header: 'a' } }], false],
      [[{ status: '2xx', field: '/a', equals: 1, outcome: 'busy' }], true],
      [[{ status: [400, 500], when: 'true', outcome: 'busy' }], false],
    ] as [AnswerRow[], boolean][])('whether good answers have to be read is known ahead: %#', (given, reads) => {
      expect(readsGoodBodies(given)).toBe(reads)
    })
  })

  test('a JSON Pointer reads escaped names and lists, and no prototype', () => {
    expect(jsonField('{"a/b":{"~":[5]}}', '/a~1b/~0/0')).toBe(5)
    expect(jsonField('{}', '/constructor')).toBeUndefined()
  })
})

describe('Retry-After', () => {
  test.each([
    ['120', 120_000],
    ['0', 0],
    ['Thu, 01 Jan 1970 00:00:30 GMT', 30_000],
    ['Thu, 01 Jan 1960 00:00:30 GMT', 0],
    ['999999999', 86_400_000],
    ['soon', undefined],
    [undefined, undefined],
    ['1.5', 1_500],
    ['30s', 30_000],
    [2.5, 2_500],
    [-1, undefined],
    [{}, undefined],
  ])('%p is %p ms', (value, expected) => {
    expect(retryAfterMs(value, 0)).toBe(expected)
  })
})

describe('a profile', () => {
  test.each([
    ['an origin without TLS', { origins: { development: 'http://127.0.0.1' } }],
    ['a field without what it equals', { answers: [{ status: 200, field: '/a', outcome: 'accepted' }] }],
    ['an unknown member', { colour: 'red' }],
    ['no answers', { answers: [] }],
    ['a row that says neither status nor condition', { answers: [{ outcome: 'accepted' }] }],
    ['another version of HTTP', { http: 3 }],
    ['certificates that are none', { ca: 'trust me' }],
    ['no origin in a list', { origins: { development: [] } }],
    ['a fact that ends a line', { facts: { project: 'a\r\nb' } }],
    ['a fact that is another path', { facts: { project: '..' } }],
    ['a fact without a name', { facts: { 'a b': 'c' } }],
    ['a header that is none', { authentication: { kind: 'signed-token', lifetimeSeconds: 60, header: 'a:b' } }],
    ['a scheme of two words', { authentication: { kind: 'signed-token', lifetimeSeconds: 60, scheme: 'a b' } }],
  ])('with %s is refused', (_name, part) => {
    expect(gatewayProfile.safeParse({ ...profile('standin-ios'), ...part }).success).toBe(false)
  })

  test.each([
    ['/a/../b', false],
    ['/a/%2e%2E/b', false],
    ['/./a', false],
    ['/a b', false],
    ['/a#b', false],
    ['/a\\b', false],
    ['/a/{tokens}', false],
    ['/a/{fact.}', false],
    ['/a/{token', false],
    ['/..a/{fact.project}/{token}/{identifier}?x=..', true],
  ])('whose path is %s can be used: %p', (path, isGood) => {
    const given = profile('standin-ios')
    expect(gatewayProfile.safeParse({ ...given, request: { ...given.request, path } }).success).toBe(isGood)
  })

  test('may name several origins of an environment, and none of another', () => {
    const origins = { development: ['https://one.example', 'https://two.example'], production: 'https://three.example' }
    const given = gatewayProfile.parse({ ...profile('standin-ios'), origins })
    expect(originsOf(given, 'development')).toEqual(origins.development)
    expect(originsOf(given, 'production')).toEqual([origins.production])
    expect(originsOf(profile('standin-ios'), 'production')).toEqual([])
  })
})

test('whatever a gateway answers, it is one of five things', () => {
  const rows = profile('standin-android').answers
  const texts = fc.oneof(
    fc.string({ unit: 'binary' }),
    fc.json(),
    fc.constantFrom('{"fault":', '[[[[', '{"a":{"a":1}}', ''),
  )
  const headers = fc.dictionary(
    fc.constantFrom('retry-after', 'x-delivery', 'content-type', '__proto__'),
    fc.oneof(texts, fc.array(texts, { maxLength: 2 })),
  )
  fc.assert(
    fc.property(fc.integer({ min: 0, max: 999 }), headers, texts, (status, given, body) => {
      const outcome = explainAnswer(rows, { status, headers: given as never, body }, Date.now())
      if (outcome instanceof Promise) throw new Error('a row of this profile has a condition')
      expect(['accepted', 'busy', 'unavailable', 'token-gone', 'refused']).toContain(outcome.is)
      if (outcome.is === 'busy' || outcome.is === 'unavailable') {
        const waitMs = outcome.retryAfterMs ?? 0
        expect(Number.isFinite(waitMs) && waitMs >= 0).toBe(true)
      }
    }),
    { numRuns: inScope({ default: 500, all: 2_000, long: 50_000 }) },
  )
})
