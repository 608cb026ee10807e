import type { AttributeType } from '@zbell/core'
import fc from 'fast-check'

/** What the people of the test may have, by type. */
export const attributes: ReadonlyMap<string, AttributeType> = new Map([
  ['pier', 'text'],
  ['home-pier', 'text'],
  ['trips', 'number'],
  ['balance', 'number'],
  ['crew', 'boolean'],
  ['ends', 'instant'],
  ['lives', 'place'],
])

/** The moment of the test: the last millisecond of a day. */
export const nowMs = Date.parse('2026-11-27T23:59:59.999Z')

/** Texts that are easy to take for one another. */
export const texts = [
  '',
  ' ',
  'a',
  'a ',
  'A',
  'ä',
  'a\u0308',
  'Saltmere',
  'saltmere',
  'x'.repeat(40),
  `${'x'.repeat(40)}y`,
  '😀',
  '\uffff',
  'ß',
  'رصيف',
  "'; drop table users; --",
  '%_\\',
  '4.2.0',
  '4.10',
  '1234567890.1',
  'é😀é',
] as const
export const numbers = [
  0, 1, -1, 2, 0.1, 0.2, 0.3, 1.5, -7, 12, 1e15, 9_007_199_254_740_992, 1e300, 9e307, -9e307, 1.79e308, 5e-324, 1e-308,
] as const
export const instants = [
  '2026-11-27T23:59:59.999Z',
  '2026-11-27T23:59:59.998Z',
  '2026-11-20T23:59:59.999Z',
  '1970-01-01T00:00:00.000Z',
  '0001-01-01T00:00:00.000Z',
  '9999-12-31T23:59:59.999Z',
  '2024-02-29T12:00:00.000Z',
] as const
const durations = ['1ms', '1s', '24h', '168h', '720h', '-1h', '87600h'] as const
const windows = ['1ms', '1h', '24h', '168h', '8760h'] as const
export const events = ['example.searched', 'example.booked'] as const

type Rules = Record<'yes' | 'number' | 'text' | 'instant' | 'duration' | 'version' | 'happened', string>
const quoted = (text: string): string => JSON.stringify(text)
const from = <T>(...all: readonly T[]) => fc.constantFrom(...all)
const signs = from('==', '!=', '<', '<=', '>', '>=')
const literal = (number: number): string => (Object.is(number, -0) ? '-0.0' : String(number))

/** Rules with a type for each part, of all that both the database and the evaluator know. */
export const randomRule: fc.Arbitrary<string> = fc.letrec<Rules>((tie) => {
  const depthIdentifier = fc.createDepthIdentifier()
  const deep = { maxDepth: 4, depthIdentifier, depthSize: 'small' as const, withCrossShrink: true }
  const compared = (name: keyof Rules) =>
    fc.tuple(tie(name), signs, tie(name)).map(([a, sign, b]) => `${a} ${sign} ${b}`)
  const paired = (name: keyof Rules, ...all: string[]) =>
    fc.tuple(tie(name), from(...all), tie(name)).map(([a, sign, b]) => `(${a} ${sign} ${b})`)
  const chosen = (name: keyof Rules) =>
    fc.tuple(tie('yes'), tie(name), tie(name)).map(([when, a, b]) => `(${when} ? ${a} : ${b})`)
  const count = fc
    .tuple(from(...events), from(...windows), fc.option(tie('happened'), { nil: undefined }))
    .map(([event, within, each]) => `count(${quoted(event)}, duration("${within}")${each ? `, o, ${each}` : ''})`)
  const told = fc
    .tuple(from('rung', 'received', 'opened'), from(...windows))
    .map(([what, within]) => `${what}(duration("${within}"))`)
  return {
    yes: fc.oneof(
      deep,
      from('user.crew', 'device.muted', 'true', 'false', 'has(user.pier)', 'has(user.crew)', '"home-pier" in user'),
      from(
        'has(device.locale)',
        'has(device.receiptAt)',
        'follows("route-4")',
        'follows("nowhere")',
        'reached("storm")',
      ),
      from('segment("commuters")', 'segment("crew")'),
      fc
        .tuple(
          fc.double({ min: -180, max: 180, noNaN: true }),
          fc.double({ min: -90, max: 90, noNaN: true }),
          from(0, 500, 2e6),
        )
        .map(
          ([longitude, latitude, metres]) => `near(user.lives, ${literal(longitude)}, ${literal(latitude)}, ${metres})`,
        ),
      compared('number'),
      compared('text'),
      compared('instant'),
      compared('duration'),
      compared('version'),
      compared('yes').map((text) => `(${text})`),
      fc
        .tuple(tie('text'), fc.array(from(...texts), { maxLength: 3 }))
        .map(([a, all]) => `${a} in [${all.map(quoted)}]`),
      fc
        .tuple(tie('number'), fc.array(from(...numbers), { maxLength: 3 }))
        .map(([a, all]) => `${a} in [${all.map(literal)}]`),
      fc
        .tuple(tie('text'), from('startsWith', 'endsWith', 'contains'), tie('text'))
        .map(([a, how, b]) => `${a}.${how}(${b})`),
      paired('yes', '&&', '||'),
      tie('yes').map((one) => `!(${one})`),
      chosen('yes'),
    ),
    number: fc.oneof(
      deep,
      from(...numbers).map(literal),
      from('user.trips', 'user.balance'),
      count,
      told,
      tie('text').map((text) => `size(${text})`),
      tie('number').map((one) => `-(${one})`),
      paired('number', '+', '-', '*', '/', '%'),
      chosen('number'),
    ),
    text: fc.oneof(
      deep,
      from(...texts).map(quoted),
      from('user.pier', 'user["home-pier"]', 'device.platform', 'device.locale', 'device.appVersion', 'device.model'),
      paired('text', '+'),
      chosen('text'),
    ),
    instant: fc.oneof(
      deep,
      from(...instants).map((text) => `timestamp("${text}")`),
      from('now', 'user.ends', 'device.seenAt', 'device.receiptAt'),
      fc.tuple(from('first', 'last'), from(...events)).map(([which, event]) => `${which}("${event}")`),
      fc.tuple(tie('instant'), from('+', '-'), tie('duration')).map(([a, sign, b]) => `(${a} ${sign} ${b})`),
      chosen('instant'),
    ),
    duration: fc.oneof(
      deep,
      from(...durations).map((text) => `duration("${text}")`),
      fc.tuple(tie('instant'), tie('instant')).map(([a, b]) => `(${a} - ${b})`),
      paired('duration', '+', '-'),
      chosen('duration'),
    ),
    version: fc.oneof(
      { ...deep, maxDepth: 2 },
      from('1', '4.2.0', '4.10', '4.2.0.1', '999999999.0').map((text) => `version("${text}")`),
      from('device.appVersion', 'user.pier').map((text) => `version(${text})`),
    ),
    happened: fc.oneof(
      deep,
      from(
        'has(o.data.price)',
        '!has(o.data.price)',
        'has(o.data.stops.last)',
        'o.data.firm',
        'o.data["odd \\"name"] == 1',
      ),
      fc
        .tuple(
          from('o.data.price', 'o.data.stops.count', 'o.data.to'),
          signs,
          fc.oneof(from(...numbers).map(literal), from(...texts).map(quoted)),
        )
        .map(([a, sign, b]) => `${a} ${sign} ${b}`),
      fc.array(from(...texts), { maxLength: 3 }).map((all) => `o.data.to in [${all.map(quoted)}]`),
      from(
        'o.data.firm == true',
        'o.data.firm != false',
        'o.at > now - duration("24h")',
        'o.source == "/app"',
        'o.data.to.startsWith("Sa")',
      ),
      fc.tuple(tie('happened'), from('&&', '||'), tie('happened')).map(([a, sign, b]) => `(${a} ${sign} ${b})`),
      tie('happened').map((one) => `!(${one})`),
    ),
  }
}).yes
