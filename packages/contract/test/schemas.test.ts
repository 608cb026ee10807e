import { describe, expect, test } from '@jest/globals'
import { faultsIn, notificationRequest, operations, receipts, registration } from '../src/index.ts'

const good = { to: { any: ['user:ada'] }, content: { title: 'T' } }
const faultsOf = (value: unknown) =>
  notificationRequest.safeParse(value).error?.issues.map(({ path }) => path.join('/')) ?? []

describe('a notification request', () => {
  test('needs a target and a title; urgency and lifetime are left to the channel, and the rest has defaults', () => {
    expect(notificationRequest.parse(good)).toEqual({
      ...good,
      mode: 'show',
      spreadSeconds: 0,
      paused: false,
    })
  })
  test('that only wakes needs no content', () => {
    expect(notificationRequest.parse({ to: good.to, mode: 'wake' }).content).toEqual({ title: '' })
  })
  test.each([
    ['no target', { content: good.content }, ['to']],
    ['an empty target', { ...good, to: { any: [] } }, ['to/any']],
    ['an unknown kind of reference', { ...good, to: { any: ['user:a', 'route-4'] } }, ['to/any/1']],
    ['no title', { ...good, content: { body: 'B' } }, ['content/title']],
    ['a title of 100,000 characters', { ...good, content: { title: 'x'.repeat(100_000) } }, ['content/title']],
    ['a NUL', { ...good, content: { title: 'a\u0000b' } }, ['content/title']],
    ['half a surrogate pair', { ...good, content: { title: 'T', body: '\ud83d' } }, ['content/body']],
    ['a script as place', { ...good, content: { title: 'T', navigate: 'javascript:alert(1)' } }, ['content/navigate']],
    [
      'a place on another host in disguise',
      { ...good, content: { title: 'T', navigate: '//evil.example' } },
      ['content/navigate'],
    ],
    ['a tag that no push service takes', { ...good, content: { title: 'T', tag: 'a b' } }, ['content/tag']],
    ['too much data', { ...good, content: { title: 'T', data: { a: 'x'.repeat(3_000) } } }, ['content/data']],
    [
      'a name of the prototype',
      JSON.parse('{"to":{"any":["user:a"]},"content":{"title":"T","data":{"constructor":1}}}'),
      ['content/data/constructor'],
    ],
    ['a wrong type', { ...good, ttlSeconds: '60' }, ['ttlSeconds']],
    ['an unknown member', { ...good, color: 'red' }, ['']],
  ])('with %s is refused where it stands', (_name, value, places) => {
    expect(faultsOf(value)).toEqual(places)
  })
})

describe('a registration', () => {
  const subscription = { endpoint: 'https://push.example/1', keys: { p256dh: 'B'.repeat(87), auth: 'A'.repeat(22) } }
  test('takes what a browser’s subscription says of itself', () => {
    expect(
      registration.safeParse({ platform: 'web', subscription: { ...subscription, expirationTime: null } }).success,
    ).toBe(true)
  })
  test.each([
    ['a token with a space', { platform: 'ios', token: 'not a token at all' }],
    ['a short token', { platform: 'android', token: 'short' }],
    [
      'an endpoint without TLS',
      { platform: 'web', subscription: { ...subscription, endpoint: 'http://push.example' } },
    ],
    [
      'a key of the wrong size',
      { platform: 'web', subscription: { ...subscription, keys: { ...subscription.keys, auth: 'AAAA' } } },
    ],
    ['an unknown time zone', { platform: 'ios', token: 'x'.repeat(32), timeZone: 'Sea/Nowhere' }],
    ['an unknown language', { platform: 'ios', token: 'x'.repeat(32), locale: 'not_a_locale!' }],
    ['a token for the web', { platform: 'web', token: 'x'.repeat(32) }],
  ])('with %s is refused', (_name, value) => {
    expect(registration.safeParse(value).success).toBe(false)
  })
})

test('receipts come a hundred at most', () => {
  const one = { notification: '018bcfe5-6800-7fff-bfff-ffffffffffff', state: 'shown', at: '2026-01-01T00:00:00Z' }
  expect(receipts.safeParse({ receipts: Array(100).fill(one) }).success).toBe(true)
  expect(receipts.safeParse({ receipts: Array(101).fill(one) }).success).toBe(false)
  expect(receipts.safeParse({ receipts: [{ ...one, state: 'accepted' }] }).success).toBe(false)
})

test('of a list of events the item and its member are named that cannot be', () => {
  const event = { specversion: '1.0', id: 'e-1', source: 'https://tickets.example', type: 'example.booked' }
  const { body } = operations.reportOccurrences
  const faults = (value: unknown) => faultsIn(body.safeParse(value).error!, value).map(({ pointer }) => pointer)
  expect(faults([event, event, { ...event, type: 5 }])).toEqual(['/2/type'])
  expect(faults([event, { ...event, type: 5, id: 6 }])).toEqual(['/1/id', '/1/type'])
  expect(faults({ ...event, id: 6 })).toEqual(['/id'])
  expect(faults('x')).toEqual([''])
})
