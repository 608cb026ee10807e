import { describe, expect, test } from '@jest/globals'
import {
  checkRule,
  explainRule,
  type Facts,
  type KnownSegment,
  maxClauses,
  programOf,
  type RuleProgram,
  RuleRefused,
  ruleLimits,
  ruleWarnings,
  type Verdict,
  type Vocabulary,
} from '../src/rules/index.ts'

const vocabulary: Vocabulary = {
  attributes: new Map([
    ['pass', 'text'],
    ['homePier', 'text'],
    ['home-pier', 'text'],
    ['trips', 'number'],
    ['crew', 'boolean'],
    ['passEnds', 'instant'],
    ['lives', 'place'],
    ['__proto__', 'text'],
  ]),
  segments: new Set(['commuters', 'crew']),
  keptMs: 90 * 86_400_000,
}
const nowMs = Date.parse('2026-11-27T17:00:00Z')
const hourMs = 3_600_000
const ada: Facts = {
  nowMs,
  user: new Map<string, string | number | boolean | { longitude: number; latitude: number }>([
    ['pass', 'season'],
    ['homePier', 'Saltmere'],
    ['trips', 12],
    ['crew', false],
    ['passEnds', '2026-12-01T00:00:00Z'],
    ['lives', { longitude: 5.3221, latitude: 60.3913 }],
  ]),
  device: { platform: 'ios', locale: 'nb-NO', appVersion: '4.10.0', muted: false, seenAt: nowMs - hourMs },
  topics: new Set(['route-4']),
  happened: [
    { type: 'example.searched', source: '/app', atMs: nowMs - hourMs, data: { to: 'Farrow Isle' } },
    { type: 'example.searched', source: '/app', atMs: nowMs - 30 * hourMs, data: { to: 'Brackenholm' } },
    { type: 'example.booked', source: '/app', atMs: nowMs - 2 * hourMs, data: { price: 31.5, stops: [{ pier: 'x' }] } },
    { type: 'example.booked', source: '/app', atMs: nowMs - 3 * hourMs, data: { price: 'free' } },
  ],
  reached: new Set(['storm']),
  told: [
    { what: 'opened', atMs: nowMs - hourMs, notification: 'a' },
    { what: 'opened', atMs: nowMs - hourMs, notification: 'a' },
    { what: 'opened', atMs: nowMs - 50 * hourMs, notification: 'b' },
  ],
}
const nobody: Facts = {
  ...ada,
  user: new Map(),
  device: { platform: 'web', muted: false },
  topics: new Set(),
  happened: [],
  reached: new Set(),
  told: [],
}

const ask = (text: string, facts = ada, segments?: ReadonlyMap<string, RuleProgram>): Verdict =>
  programOf(checkRule(text, vocabulary).term, segments)(facts)

/** What is wrong, with its place. */
function refused(text: string): string[] {
  try {
    checkRule(text, vocabulary)
  } catch (error) {
    if (!(error instanceof RuleRefused)) throw error
    return error.faults.map(({ line, column, says }) => `${line}:${column} ${says}`)
  }
  return []
}

describe('a rule', () => {
  test.each<[string, Verdict]>([
    ['user.pass == "season" && user.homePier == "Saltmere" && follows("route-4")', true],
    ['count("example.searched", duration("168h")) >= 2', true],
    ['count("example.searched", duration("24h")) == 1', true],
    ['count("example.booked", duration("720h"), o, o.data.price > 20) == 1', true],
    ['count("example.booked", duration("720h"), o, o.data.price == "free") == 1', true],
    ['count("example.booked", duration("720h"), o, o.data.stops == 1 || has(o.data.price)) == 2', true],
    ['count("example.booked", duration("720h"), o, o.at > now - duration("150m")) == 1', true],
    ['now - last("example.booked") < duration("3h")', true],
    ['first("example.searched") < last("example.searched")', true],
    ['opened(duration("168h")) == 2 && opened(duration("2h")) == 1', true],
    ['reached("storm") && !reached("calm")', true],
    ['near(user.lives, 5.32, 60.39, 2000)', true],
    ['near(user.lives, 5.32, 60.39, 20)', false],
    ['version(device.appVersion) >= version("4.2.0")', true],
    ['version(device.appVersion) == version("4.10")', true],
    ['user.passEnds - now < duration("168h")', true],
    ['user.passEnds > timestamp("2026-12-01T01:00:00+01:00")', false],
    ['user["home-pier"] == "x" || "pass" in user', true],
    ['"home-pier" in user', false],
    ['user.trips / 4 + 1 == 4', true],
    ['user.trips % 5 == 2', true],
    ['-user.trips < -11', true],
    ['user.pass in ["week", "season"] && user.trips in [-1, 12]', true],
    ['user.crew ? false : user.homePier.startsWith("Salt")', true],
    ['!user.crew && user.homePier.endsWith("mere") && user.homePier.contains("tm") && user.pass.size() == 6', true],
    ['size(user.pass + user.homePier) == 14', true],
    ['device.platform == "ios" && !device.muted && has(device.locale) && !has(device.model)', true],
    ['device.seenAt >= now - duration("1h")', true],
    ['false < true', true],
  ])('%s', (text, verdict) => expect(ask(text)).toBe(verdict))

  test.each<[string, Verdict]>([
    ['user.pass == "season"', null],
    ['user.pass != "season"', null],
    ['!(user.pass == "season")', null],
    ['user.pass == "season" || true', true],
    ['user.pass == "season" && false', false],
    ['user.pass == "season" || false', null],
    ['user.crew ? true : true', null],
    ['has(user.pass)', false],
    ['count("example.searched", duration("24h")) == 0', true],
    ['last("example.searched") < now', null],
    ['device.locale == "nb"', null],
    ['near(user.lives, 5.0, 60.0, 10)', null],
  ])('about somebody of whom nothing is known: %s is %p', (text, verdict) => expect(ask(text, nobody)).toBe(verdict))

  test.each<[string, Verdict]>([
    ['1/0 == 1', null],
    ['1 % 0 == 1', null],
    ['9e307 * 100.0 > 1.0', null],
    ['1e308 + 1e308 > 1.0', null],
    ['1e308 / 1e-308 > 1.0', null],
    ['-0.0 == 0.0', true],
    ['0.1 + 0.2 == 0.3', false],
    ['"a" == "a "', false],
    ['"😀" > "\uffff"', true],
    ['size("😀") == 1', true],
    ['"" < "a" && "ab".contains("")', true],
    ['timestamp("9999-12-31T23:59:59Z") + duration("1s") > now', null],
  ])('at the edges: %s is %p', (text, verdict) => expect(ask(text)).toBe(verdict))

  test('asks another segment, which knows only yes and no', () => {
    const segments = new Map<string, RuleProgram>([
      ['commuters', () => true],
      ['crew', () => null],
    ])
    expect(ask('segment("commuters")', ada, segments)).toBe(true)
    expect(ask('!segment("crew")', ada, segments)).toBe(true)
  })

  test('is explained clause by clause', () => {
    const { term } = checkRule(
      'user.pass == "week" || (has(user.trips) && !(count("example.searched", duration("24h")) > 3))',
      vocabulary,
    )
    expect(explainRule(term, ada)).toEqual({
      belongs: true,
      parts: [
        { text: 'user.pass == "week"', value: '"season"', verdict: false, depth: 0 },
        {
          text: 'has(user.trips) && !(count("example.searched", duration("24h")) > 3)',
          value: null,
          verdict: true,
          depth: 0,
        },
        { text: 'has(user.trips)', value: null, verdict: true, depth: 1 },
        { text: '!(count("example.searched", duration("24h")) > 3)', value: '1', verdict: true, depth: 1 },
      ],
    })
    const version = checkRule('version(device.appVersion) > version("4.2")', vocabulary)
    expect(explainRule(version.term, nobody).parts).toEqual([
      { text: 'version(device.appVersion) > version("4.2")', value: 'not known', verdict: null, depth: 0 },
    ])
  })

  test('opens what is nested: a segment that it names, with its sign, and a choice', () => {
    const known = new Map<string, KnownSegment>()
    const add = (name: string, rule: string) => {
      const { term } = checkRule(rule, { ...vocabulary, segments: new Set(known.keys()) })
      const programs = new Map([...known].map(([one, { program }]) => [one, program]))
      known.set(name, { term, program: programOf(term, programs) })
    }
    const partsOf = (rule: string) => {
      const { term } = checkRule(rule, { ...vocabulary, segments: new Set(known.keys()) })
      return explainRule(term, ada, known).parts.map(({ text, verdict, depth }) => [depth, text, verdict])
    }
    add('season', 'user.pass == "season" && has(user.trips)')
    add('others', '!segment("season")')
    expect(partsOf('!segment("others") && has(user.trips)')).toEqual([
      [0, '!segment("others")', true],
      [1, '!segment("season")', false],
      [2, 'user.pass == "season"', true],
      [2, 'has(user.trips)', true],
      [0, 'has(user.trips)', true],
    ])
    // Segments that double with each step are opened up to a bound.
    for (let n = 0; n < 12; n++)
      add(`s${n}`, n === 0 ? 'has(user.trips)' : `segment("s${n - 1}") && segment("s${n - 1}")`)
    expect(partsOf('segment("s11")')).toHaveLength(maxClauses)
  })
})

test.each([
  [
    'device.platform == "iOS" && "granted" != device.permission',
    ['1:20 a device’s platform is never “iOS”, but ios, android, web; the nearest is ios'],
  ],
  [
    'device.permission in ["granted", "allowed"]',
    ['1:34 a device’s permission is never “allowed”, but prompt, granted, denied'],
  ],
  [
    '!follows("route4") || follows("route-4")',
    ['1:2 nobody has declared or joined the topic route4; the nearest is route-4'],
  ],
  ['device.platform == "ios" && user.pass == "iOS"', []],
])('what can never be is warned of: %s', (rule, warned) => {
  const warnings = ruleWarnings(checkRule(rule, vocabulary), ['route-4', 'storms'])
  expect(warnings.map(({ line, column, says }) => `${line}:${column} ${says}`)).toEqual(warned)
})

describe('a rule that cannot be used is refused in its place', () => {
  test.each([
    ['', '1:1 a rule wants a condition, such as user.pass == "season"'],
    ['user.pas == "season"', '1:1 no attribute pas is known; the nearest is pass'],
    ['user.pass == "season" &&\n  user.trips > "5"', '2:16 a text cannot be compared with a number'],
    ['user.pass ==', '1:13 after == a value is wanted'],
    ['user.pass = "season"', '1:11 “=” sets a value; whether two are equal is asked by =='],
    ['user.crew & true', '1:11 “&” is written twice: &&'],
    ['(user.crew', '1:11 the rule ends where a bracket has to be closed, or an operator such as && is missing'],
    ['user.crew and true', '1:11 “a” stands where the rule should go on with an operator such as == or &&, or end'],
    ['user.trips', '1:1 is a number where yes or no is wanted'],
    ['device.plattform == "ios"', '1:1 a device has no plattform; the nearest is platform'],
    ['follow("route-4")', '1:1 there is no function follow; the nearest is follows'],
    ['folows', '1:1 folows is no name that a rule knows; the nearest is follows'],
    [
      'user.pass.matches("s.*")',
      'a regular expression cannot be asked of the database; use startsWith, endsWith or contains',
    ],
    ['follows("Route 4")', '1:9 is not a topic: small letters, digits, hyphens and dots, 64 at most'],
    ['follows(user.pass)', 'follows is written follows("route-4")'],
    ['count("a", duration("3 days")) > 1', '1:12 wants a duration such as "168h", "90m" or "1h30m"'],
    ['opened(duration("2400h")) > 1', 'reaches further back than is kept, which is 2160h'],
    ['count("a", duration("1h"), o, o.price > 2) > 1', 'what happened has data.…, at, type and source, and no price'],
    [
      'count("a", duration("1h"), o, o.data.a == o.data.b) > 1',
      'both sides come from the data; one of them has to have a type of its own',
    ],
    ['o.data.price > 2', '1:1 o is no name that a rule knows'],
    ['user.lives == user.lives', 'a place cannot be compared; use near(…)'],
    ['near(user.lives, 60.39, 5.32, -1)', 'wants metres, from 0 to 20,100,000'],
    ['near(user.lives, 200, 5.32, 1)', 'wants a longitude from -180 to 180; longitude comes first'],
    ['segment("comuters")', '1:9 there is no segment comuters; the nearest is commuters'],
    ['user.pass == null', 'nothing is equal to null here; ask has(user.pass) whether it is known'],
    ['user.passEnds > "2026-01-01"', 'a text cannot be compared with an instant'],
    ['user.passEnds > timestamp("2026-01-01")', 'wants an instant such as'],
    ['version("four") > version(device.appVersion)', 'is no version: one to four numbers with dots between'],
    ['1 + 2 + 3 + 4 + 5 + user.trips > 2', 'calculations lie 4 deep at most'],
    ['[1, 2].exists(x, x > 1)', 'a rule goes through no lists; to count what happened use count(…)'],
    ['{"a": 1}.a == 1', 'a rule makes no maps and no messages'],
    ['user.trips in user.pass', 'after “in” stands a list'],
    ['user.pass in ["a", 1]', 'is a number in a list for a text'],
    ['int(user.pass) > 1', 'all numbers are of one kind here; leave int() away'],
    ['user.constructor == "x"', 'no attribute constructor is known'],
    ['1u == 1u', 'there are no bytes and no unsigned numbers'],
    ['user.pass == "a\\u0000"', 'a text cannot have the character U+0000'],
    ['user == 1', 'the user is no value; ask for an attribute, such as user.pass'],
  ])('%s', (text, says) => expect(refused(text).join('\n')).toContain(says))

  test('with all that is wrong at once', () => {
    expect(refused('user.pas == 1 && user.trip > 2 && device.os == "x"')).toHaveLength(3)
  })
})

describe('a hostile rule costs no more than its size', () => {
  const clause = 'user.trips > 1'
  test.each([
    ['brackets', '('.repeat(4_000)],
    ['brackets that close', `${'('.repeat(1_999)}1${')'.repeat(1_999)}`],
    ['lists in lists', `${'['.repeat(300)}${']'.repeat(300)}`],
    ['signs', `${'!'.repeat(3_991)}user.trips`],
    ['many clauses', Array.from({ length: 230 }, () => clause).join(' && ')],
    ['ten thousand clauses', Array.from({ length: 10_000 }, () => clause).join(' && ')],
    ['a long sum', `${'1+'.repeat(1_900)}1 > 2`],
    ['cases in cases', `${'true?true:'.repeat(390)}true`],
    ['members of members', `user${'.a'.repeat(1_900)} == 1`],
    ['lists that multiply', `${'[1].map(x, '.repeat(15)}1${')'.repeat(15)} == 1`],
    ['a list without end', `user.trips in [${'1,'.repeat(1_900)}1]`],
  ])('%s', (_, text) => {
    expect(refused(text)).not.toEqual([])
  })

  test('a huge number is one that is too large, and a name that means something elsewhere is a name', () => {
    expect(refused(`${'9'.repeat(3_000)} > 1`)).toEqual(['1:1 is larger than a number can be'])
    expect(ask('user.__proto__ == "x"')).toBe(null)
    expect(ask('user.__proto__ == "x"', { ...ada, user: new Map([['__proto__', 'x']]) })).toBe(true)
    expect(ruleLimits).toEqual({ chars: 4_000, nodes: 200, levels: 20, list: 100, tokens: 1_200, calculations: 4 })
  })
})
