import {
  type CelInput,
  CelScalar,
  type CelValue,
  celEnv,
  celFunc,
  celMethod,
  isCelError,
  isCelMap,
  objectType,
  plan,
} from '@bufbuild/cel'
import type { Expr } from '@bufbuild/cel-spec/cel/expr/syntax_pb.js'
import {
  type Duration,
  DurationSchema,
  durationFromMs,
  durationMs,
  type Timestamp,
  TimestampSchema,
  timestampFromMs,
  timestampMs,
} from '@bufbuild/protobuf/wkt'
import type { AttributeValue, Place } from '../people/attributes.ts'
import { firstMs, lastMs, maxMs } from './duration-text.ts'
import { compareTexts, guarded, haversine, haversineWithin, versionKey } from './numbers.ts'
import { type DeviceField, deviceFields, partsOf, type ReceivedStep, type RuleType, type Term } from './term.ts'

export type Happened = {
  readonly type: string
  readonly source: string
  readonly atMs: number
  readonly data: unknown
}

/** What is known of one device and its user. */
export type Facts = {
  readonly nowMs: number
  /** By the names of attributes; empty for a device that has no user. */
  readonly user: ReadonlyMap<string, AttributeValue>
  /** Instants are ms since the epoch; what is not known is left out. */
  readonly device: { readonly [Field in DeviceField]?: string | number | boolean | null }
  /** What the device follows, by itself or through its user. */
  readonly topics: ReadonlySet<string>
  readonly happened: readonly Happened[]
  /** The names of notifications that went to the user, on any of their devices. */
  readonly reached: ReadonlySet<string>
  /** What became of notifications on all devices of the user; each notification counts once. */
  readonly told: readonly { readonly what: ReceivedStep; readonly atMs: number; readonly notification: string }[]
}

/** Yes, no, or neither: something that is needed is not known. */
export type Verdict = boolean | null
/** A rule that answers for one device at a time. */
export type RuleProgram = (facts: Facts) => Verdict

type Value = CelValue | undefined
/** One part of a rule: what it gives, or undefined where it is neither. */
export type TermProgram = (facts: Facts) => Value

const { BOOL, DOUBLE, STRING, DYN } = CelScalar
const instantType = objectType(TimestampSchema)
const durationType = objectType(DurationSchema)

/** What one run of a program looks at. */
type Frame = {
  readonly facts: Facts
  /** The conditions of counts, by the numbers that stand in their place. */
  readonly conditions: readonly (Bound | undefined)[]
  readonly segments: ReadonlyMap<string, RuleProgram>
  readonly happened: Happened | undefined
  /** The ways through its data that are asked for, by the numbers that stand in their place. */
  readonly ways: readonly (readonly string[])[]
}
type Bound = (facts: Facts, happened?: Happened) => Value

/** The run that goes on at this moment; a program runs from its beginning to its end without a pause. */
let frame: Frame | undefined

/** Neither yes nor no: the evaluator takes an error for that, which `&&` and `||` absorb. */
function known<T>(value: T | undefined): T {
  if (value === undefined) throw new Error('is not known')
  return value
}

const calculations = Object.entries(guarded).map(([how, of]) =>
  celFunc(`_${how}_`, [DOUBLE, DOUBLE], DOUBLE, (a, b) => known(of(a, b))),
)
/** Messages as the evaluator hands them over. */
type Moment = { readonly message: Timestamp }
type Span = { readonly message: Duration }
const instantWithin = (ms: number): Timestamp => timestampFromMs(known(ms >= firstMs && ms <= lastMs ? ms : undefined))
const durationWithin = (ms: number): Duration => durationFromMs(known(Math.abs(ms) <= maxMs ? ms : undefined))
const momentMs = ({ message }: Moment): number => timestampMs(message)
const spanMs = ({ message }: Span): number => durationMs(message)
const times = [
  celFunc('_+_', [instantType, durationType], instantType, (a, b) => instantWithin(momentMs(a) + spanMs(b))),
  celFunc('_+_', [durationType, instantType], instantType, (a, b) => instantWithin(spanMs(a) + momentMs(b))),
  celFunc('_-_', [instantType, durationType], instantType, (a, b) => instantWithin(momentMs(a) - spanMs(b))),
  celFunc('_-_', [instantType, instantType], durationType, (a, b) => durationWithin(momentMs(a) - momentMs(b))),
  celFunc('_+_', [durationType, durationType], durationType, (a, b) => durationWithin(spanMs(a) + spanMs(b))),
  celFunc('_-_', [durationType, durationType], durationType, (a, b) => durationWithin(spanMs(a) - spanMs(b))),
]
const orders = [
  celFunc('_<_', [STRING, STRING], BOOL, (a, b) => compareTexts(a, b) < 0),
  celFunc('_<=_', [STRING, STRING], BOOL, (a, b) => compareTexts(a, b) <= 0),
  celFunc('_>_', [STRING, STRING], BOOL, (a, b) => compareTexts(a, b) > 0),
  celFunc('_>=_', [STRING, STRING], BOOL, (a, b) => compareTexts(a, b) >= 0),
]
const codePoints = (text: string): number => [...text].length
const atOf = (event: string, pick: (all: number[]) => number): Timestamp => {
  const times = frame!.facts.happened.filter(({ type }) => type === event).map(({ atMs }) => atMs)
  return timestampFromMs(known(times.length === 0 ? undefined : pick(times)))
}
const since = (within: Span): number => frame!.facts.nowMs - spanMs(within)
const told = (what: ReceivedStep) =>
  celFunc(what, [durationType], DOUBLE, (within) => {
    const from = since(within)
    const all = frame!.facts.told.filter((one) => one.what === what && one.atMs >= from)
    return new Set(all.map(({ notification }) => notification)).size
  })

const environment = celEnv({
  funcs: [
    ...calculations,
    ...times,
    ...orders,
    celFunc('size', [STRING], DOUBLE, codePoints),
    celMethod('size', STRING, [], DOUBLE, function () {
      return codePoints(this)
    }),
    celFunc('version', [STRING], STRING, (text) => known(versionKey(text))),
    celFunc('follows', [STRING], BOOL, (topic) => frame!.facts.topics.has(topic)),
    celFunc('first', [STRING], instantType, (event) => atOf(event, (all) => Math.min(...all))),
    celFunc('last', [STRING], instantType, (event) => atOf(event, (all) => Math.max(...all))),
    celFunc('count', [STRING, durationType, DOUBLE], DOUBLE, (event, within, no) => count(event, since(within), no)),
    celFunc('there', [DOUBLE], BOOL, (no) => isThere(frame!.happened?.data, frame!.ways[no]!)),
    celFunc('reached', [STRING], BOOL, (name) => frame!.facts.reached.has(name)),
    celFunc('segment', [STRING], BOOL, (name) => frame!.segments.get(name)?.(frame!.facts) === true),
    celFunc('near', [DYN, DOUBLE, DOUBLE, DOUBLE], BOOL, (place, longitude, latitude, metres) => {
      if (!isCelMap(place)) throw new Error('is no place')
      const own = [place.get('longitude'), place.get('latitude')] as [number, number]
      return haversine(...own, longitude, latitude) <= haversineWithin(metres)
    }),
    told('rung'),
    told('received'),
    told('opened'),
  ],
})

/** @param no the number of its condition, below 0 for none. What is neither is not counted. */ function count(
  event: string,
  fromMs: number,
  no: number,
): number {
  const { facts, conditions } = frame!
  const condition = conditions[no]
  return facts.happened.filter(
    (one) => one.type === event && one.atMs >= fromMs && (condition === undefined || condition(facts, one) === true),
  ).length
}

/**
 * Makes a rule ready to be asked about one device after the other.
 * @param segments the rules of the segments that it names, which name none in circles
 */
export function programOf(term: Term, segments: ReadonlyMap<string, RuleProgram> = new Map()): RuleProgram {
  const program = termProgram(term, segments)
  return (facts) => {
    const value = program(facts)
    return typeof value === 'boolean' ? value : null
  }
}

/** Makes one part of a rule ready: what it gives, not only whether it holds. */
export function termProgram(term: Term, segments: ReadonlyMap<string, RuleProgram> = new Map()): TermProgram {
  const program = bind(term, segments, undefined)
  return (facts) => program(facts)
}

/** @param occurrence what an occurrence is called in it */
function bind(term: Term, segments: ReadonlyMap<string, RuleProgram>, occurrence: string | undefined): Bound {
  const parts = [...partsOf(term)]
  const attributes = parts.flatMap((one) => (one.is === 'attribute' ? [[one.name, one.type] as const] : []))
  const asked = parts.flatMap((one) => (one.is === 'has-attribute' ? [[one.name, 'text'] as const] : []))
  const names = [...new Map<string, RuleType>([...asked, ...attributes])]
  const counts = parts.filter((one) => one.is === 'count')
  const there = parts.filter((one) => one.is === 'has-data')
  const ways = there.map(({ path }) => path)
  const conditions = counts.map(({ each, expr }) => each && bind(each, segments, nameOfOccurrence(expr)))
  const run = plan(
    environment,
    lowered(term.expr, {
      counts: counts.map(({ expr }) => expr),
      there: there.map(({ expr }) => expr),
    }),
  )
  return (facts, happened) => {
    const bindings: Record<string, CelInput> = {
      user: userOf(facts, names),
      device: deviceOf(facts),
      now: timestampFromMs(facts.nowMs),
    }
    if (happened && occurrence !== undefined) bindings[occurrence] = occurrenceOf(happened)
    const outer = frame
    frame = { facts, conditions, segments, happened, ways }
    try {
      const value = run(bindings)
      return isCelError(value) ? undefined : value
    } finally {
      frame = outer
    }
  }
}

const instantIn = (ms: number): Timestamp | undefined =>
  ms >= firstMs && ms <= lastMs ? timestampFromMs(ms) : undefined

function userOf({ user }: Facts, names: readonly (readonly [string, RuleType])[]): Map<string, CelInput> {
  const found = new Map<string, CelInput>()
  for (const [name, type] of names) {
    const value = user.get(name)
    if (value === undefined) continue
    const input =
      type === 'instant' ? instantIn(Date.parse(String(value))) : typeof value === 'object' ? placeOf(value) : value
    if (input !== undefined) found.set(name, input)
  }
  return found
}

const placeOf = ({ longitude, latitude }: Place) =>
  new Map([
    ['longitude', longitude],
    ['latitude', latitude],
  ])

function deviceOf({ device }: Facts): Map<string, CelInput> {
  const found = new Map<string, CelInput>()
  for (const [name, value] of Object.entries(device)) {
    if (value === undefined || value === null) continue
    found.set(name, deviceFields[name as DeviceField] === 'instant' ? timestampFromMs(Number(value)) : value)
  }
  return found
}

const occurrenceOf = ({ type, source, atMs, data }: Happened): Map<string, CelInput> =>
  new Map<string, CelInput>([
    ['type', type],
    ['source', source],
    ['at', timestampFromMs(atMs)],
    ['data', inputOf(data)],
  ])

/** JSON as the evaluator takes it. Maps, so that no name of a member means anything else; one that is null is not there. */
function inputOf(json: unknown): CelInput {
  if (Array.isArray(json)) return json.map(inputOf)
  if (typeof json === 'object' && json !== null)
    return new Map(
      Object.entries(json).flatMap(([name, value]) => (value === null ? [] : [[name, inputOf(value)] as const])),
    )
  return (json ?? null) as CelInput
}

/** What an occurrence is called in the condition of a count. */
function nameOfOccurrence({ exprKind }: Expr): string | undefined {
  const name = exprKind.case === 'callExpr' ? exprKind.value.args[2]?.exprKind : undefined
  return name?.case === 'identExpr' ? name.value.name : undefined
}

/** Parts that the evaluator knows by their number. */
type Numbered = { readonly counts: readonly Expr[]; readonly there: readonly Expr[] }

/** Whether data has something at the end of a way; where the way itself is not there, nothing is. */
function isThere(data: unknown, path: readonly string[]): boolean {
  let at = data
  for (const step of path) {
    if (typeof at !== 'object' || at === null || Array.isArray(at) || !Object.hasOwn(at, step)) return false
    at = (at as Record<string, unknown>)[step]
  }
  return at !== null
}

/** The tree as the evaluator runs it: all numbers are doubles, and what it cannot say itself stands by a number. */
function lowered(expr: Expr, numbered: Numbered): Expr {
  const { exprKind } = expr
  const of = (one: Expr): Expr => lowered(one, numbered)
  const changed = (kind: Expr['exprKind']): Expr => ({ ...expr, exprKind: kind })
  switch (exprKind.case) {
    case 'constExpr': {
      const { constantKind } = exprKind.value
      return constantKind.case === 'int64Value' ? number(expr, Number(constantKind.value)) : expr
    }
    case 'selectExpr': {
      const no = numbered.there.indexOf(expr)
      if (no >= 0)
        return changed({
          case: 'callExpr',
          value: { $typeName: 'cel.expr.Expr.Call', function: 'there', args: [number(expr, no)] },
        })
      return changed({ case: 'selectExpr', value: { ...exprKind.value, operand: of(exprKind.value.operand!) } })
    }
    case 'listExpr':
      return changed({ case: 'listExpr', value: { ...exprKind.value, elements: exprKind.value.elements.map(of) } })
    case 'callExpr': {
      const { target, args } = exprKind.value
      const no = numbered.counts.indexOf(expr)
      const own = no < 0 ? args.map(of) : [args[0]!, args[1]!, number(expr, args.length === 4 ? no : -1)]
      return changed({
        case: 'callExpr',
        value: { ...exprKind.value, ...(target ? { target: of(target) } : {}), args: own },
      })
    }
    default:
      return expr
  }
}

const number = (expr: Expr, value: number): Expr => ({
  ...expr,
  exprKind: {
    case: 'constExpr',
    value: { $typeName: 'cel.expr.Constant', constantKind: { case: 'doubleValue', value } },
  },
})
