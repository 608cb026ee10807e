import { readFileSync } from 'node:fs'
import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import { parse } from 'yaml'
import {
  type AnswerRow,
  explainAnswer,
  gatewayProfile,
  gatewayProfileSchema,
  jsonField,
  jsonTemplate,
  type Message,
  pathTemplate,
  RequestShaper,
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
    })
    expect(JSON.parse(shaped.body('token'))).toEqual({
      ring: message.notification,
      face: { headline: 'Kittiwake is "late"', text: 'Berth 2' },
      place: '/sailings/101',
      slot: 's-101',
      cargo: { sailing: 101 },
    })
  })

  test('the Android stand-in’s body carries each token in its place', async () => {
    const shaped = await new RequestShaper(profile('standin-android')).shape({ ...message, mode: 'wake' })
    expect(JSON.parse(shaped.body('one "token"'))).toMatchObject({
      berth: 'one "token"',
      keepSeconds: 600,
      signal: { kind: 'stir' },
    })
    expect(JSON.parse(shaped.body('another')).signal).not.toHaveProperty('head')
  })

  test('filling a token into a template is the same as writing it as JSON', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'binary' }), fc.string(), (token, other) => {
        expect(JSON.parse(jsonTemplate({ to: tokenMark, also: [`x${tokenMark}`], other })(token))).toEqual({
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
  ])('with %s is refused', (_name, part) => {
    expect(gatewayProfile.safeParse({ ...profile('standin-ios'), ...part }).success).toBe(false)
  })
})
