import type { SimpleTest } from '@bufbuild/cel-spec/cel/expr/conformance/test/simple_pb.js'
import { getConformanceSuite } from '@bufbuild/cel-spec/testdata/tests.js'
import { expect, test } from '@jest/globals'
import { checkRule, type Facts, programOf, RuleRefused, type Verdict } from '../src/rules/index.ts'

const facts: Facts = {
  nowMs: 0,
  user: new Map(),
  device: {},
  topics: new Set(),
  happened: [],
  reached: new Set(),
  told: [],
}
const vocabulary = { attributes: new Map(), segments: new Set<string>() }

/** Where a rule means something else than CEL, on purpose. */
const deviations = {
  'what is not a number is neither equal to anything nor different': [
    'comparisons/eq_literal/not_eq_double_nan',
    'comparisons/ne_literal/not_ne_double_nan',
    'comparisons/ne_literal/ne_double_nan',
  ],
  'all numbers are doubles: whole ones do not overflow, and the rest of a division is known of all of them': [
    'fp_math/fp_math/mod_not_support',
    'integer_math/int64_math/int64_overflow_positive',
    'integer_math/int64_math/int64_overflow_negative',
    'integer_math/int64_math/int64_overflow_add_negative',
    'integer_math/int64_math/int64_overflow_sub_positive',
    'integer_math/int64_math/int64_min_negate',
    'integer_math/int64_math/int64_min_negate_mul',
    'integer_math/int64_math/int64_min_negate_div',
    'integer_math/int64_math/int64_overflow_mul_positive',
    'integer_math/int64_math/int64_overflow_mul_negative',
  ],
}

type Suite = { readonly name: string; readonly suites?: readonly Suite[]; readonly tests?: readonly Case[] }
type Case = { readonly name: string; readonly original: SimpleTest }

const casesOf = (suite: Suite, path: string): [string, SimpleTest][] => [
  ...(suite.tests ?? []).map(({ name, original }): [string, SimpleTest] => [`${path}${name}`, original]),
  ...(suite.suites ?? []).flatMap((one) => casesOf(one, `${path}${one.name}/`)),
]

/** What is to come out, as a rule that holds when it does: an error is neither. */
function asRule({ expr, resultMatcher }: SimpleTest): { readonly text: string; readonly wanted: Verdict } | undefined {
  if (resultMatcher.case === 'evalError') return { text: expr, wanted: null }
  if (resultMatcher.case !== 'value') return undefined
  const { kind } = resultMatcher.value
  switch (kind.case) {
    case 'boolValue':
      return { text: expr, wanted: kind.value }
    case 'stringValue':
      return { text: `(${expr}) == ${JSON.stringify(kind.value)}`, wanted: true }
    case 'doubleValue':
    case 'int64Value':
      return { text: `(${expr}) == ${kind.value}`, wanted: true }
    default:
      return undefined
  }
}

/** A rule has to be yes or no; what gives something else is compared with itself. */
function verdictOf(text: string, wanted: Verdict): Verdict {
  const ask = (rule: string) => programOf(checkRule(rule, vocabulary).term)(facts)
  try {
    return ask(text)
  } catch (error) {
    if (wanted !== null || !(error instanceof RuleRefused)) throw error
    return ask(`(${text}) == (${text})`)
  }
}

test('whatever a rule can say of CEL means what the specification’s own tests say, but for what is told', () => {
  const other: string[] = []
  let alike = 0
  for (const [name, one] of casesOf(getConformanceSuite() as unknown as Suite, '')) {
    const rule = asRule(one)
    if (rule === undefined) continue
    try {
      if (verdictOf(rule.text, rule.wanted) === rule.wanted) alike++
      else other.push(name)
    } catch (error) {
      if (!(error instanceof RuleRefused)) throw error
    }
  }
  expect(other).toEqual(Object.values(deviations).flat())
  expect(alike).toBe(326)
})

test.each([
  ['maps and messages', '{"a": 1} == {"a": 1}', 'makes no maps and no messages'],
  ['bytes and unsigned numbers', 'b"a" == b"a"', 'there are no bytes and no unsigned numbers'],
  ['null', 'null == null', 'nothing is equal to null here'],
  ['lists but after “in”', '[1] == [1]', 'a list can only stand after “in”'],
  ['macros over lists', '[1].all(x, x > 0)', 'goes through no lists'],
  ['regular expressions', '"a".matches("a")', 'use startsWith, endsWith or contains'],
  ['conversions', 'string(1) == "1"', 'compare them as they are'],
  ['types as values', 'type(1) == int', 'types are settled by what is declared'],
  [
    'the parts of an instant',
    'timestamp("2026-01-01T00:00:00Z").getFullYear() == 2026',
    'there is no function getFullYear',
  ],
])('left out of CEL, and refused: %s', (_, text, says) => {
  expect(() => checkRule(text, vocabulary)).toThrow(says)
})
