import type { Constant, Expr, Expr_Call } from '@bufbuild/cel-spec/cel/expr/syntax_pb.js'
import type { AttributeType } from '../people/attributes.ts'
import { isTopicName } from '../targets/target.ts'
import { durationOfText, instantOfText } from './duration-text.ts'
import { nearestOf, placeIn, type RuleFault, RuleRefused } from './fault.ts'
import { versionKey } from './numbers.ts'
import { type ReadRule, readRule, ruleLimits } from './read-rule.ts'
import {
  type Arithmetic,
  type Comparison,
  type DeviceField,
  deviceFields,
  innerOf,
  type RuleType,
  type Term,
  type TextTest,
  type Told,
} from './term.ts'

/** What a rule may name. */
export type Vocabulary = {
  /** The attributes that are declared, with their types. */
  readonly attributes: ReadonlyMap<string, AttributeType>
  /** The segments that there are. */
  readonly segments: ReadonlySet<string>
  /** For so long what happened, and what became of deliveries, is kept; undefined where it stays. */
  readonly keptMs?: number | undefined
}

/** A rule whose every part has a meaning and a type. */
export type CheckedRule = ReadRule & { readonly term: Term }

/**
 * Reads a rule and checks each part against what is declared.
 * @throws {RuleRefused} with every fault that was found, each in its place
 */
export function checkRule(text: string, vocabulary: Vocabulary): CheckedRule {
  const read = readRule(text)
  const checker = new Checker(read, vocabulary)
  const term = checker.whole()
  if (term === undefined || checker.faults.length > 0) throw new RuleRefused(checker.faults)
  return { ...read, term }
}

const comparisons: Readonly<Record<string, Comparison>> = {
  '_==_': '==',
  '_!=_': '!=',
  '_<_': '<',
  '_<=_': '<=',
  '_>_': '>',
  '_>=_': '>=',
}
const arithmetics: Readonly<Record<string, Arithmetic>> = { '_+_': '+', '_-_': '-', '_*_': '*', '_/_': '/', '_%_': '%' }
const textTests: readonly string[] = ['startsWith', 'endsWith', 'contains'] satisfies TextTest[]
const tells: readonly string[] = ['rung', 'received', 'opened'] satisfies Told[]
const variables = ['user', 'device', 'now'] as const
/** Written as calls, with what they take, for whoever mistypes one. */
const functions: Readonly<Record<string, string>> = {
  follows: 'follows("route-4")',
  count: 'count("example.searched", duration("168h"))',
  first: 'first("example.booked")',
  last: 'last("example.booked")',
  opened: 'opened(duration("168h"))',
  received: 'received(duration("168h"))',
  rung: 'rung(duration("24h"))',
  near: 'near(user.lives, 5.32, 60.39, 2000.0)',
  reached: 'reached("storm")',
  segment: 'segment("commuters")',
  version: 'version(device.appVersion)',
  duration: 'duration("168h")',
  timestamp: 'timestamp("2026-11-27T18:00:00Z")',
  size: 'size(user.name)',
  has: 'has(user.pass)',
  startsWith: 'user.pier.startsWith("Salt")',
  endsWith: 'user.pier.endsWith("Quay")',
  contains: 'user.pier.contains("mere")',
}
/** What CEL has and a rule cannot say, with what says it here. */
const instead: Readonly<Record<string, string>> = {
  matches: 'a regular expression cannot be asked of the database; use startsWith, endsWith or contains',
  string: 'numbers and instants are not turned into texts; compare them as they are',
  int: 'all numbers are of one kind here; leave int() away',
  uint: 'all numbers are of one kind here; leave uint() away',
  double: 'all numbers are of one kind here; leave double() away',
  bool: 'write the condition itself in place of bool()',
  bytes: 'there are no bytes here; compare texts',
  type: 'types are settled by what is declared; there is nothing to ask',
  dyn: 'types are settled by what is declared; leave dyn() away',
}
/** Types that have an order. */
const ordered: readonly RuleType[] = ['text', 'number', 'boolean', 'instant', 'duration', 'version']
const words: Readonly<Record<RuleType, string>> = {
  text: 'a text',
  number: 'a number',
  boolean: 'yes or no',
  instant: 'an instant',
  place: 'a place',
  duration: 'a duration',
  version: 'a version',
  any: 'something from the data',
}

class Checker {
  readonly faults: RuleFault[] = []
  readonly #rule: ReadRule
  readonly #vocabulary: Vocabulary
  #nodes = 0
  #isTooMuch = false
  /** What an occurrence is called, within the condition of a count. */
  #occurrence: string | undefined

  constructor(rule: ReadRule, vocabulary: Vocabulary) {
    this.#rule = rule
    this.#vocabulary = vocabulary
  }

  whole(): Term | undefined {
    return this.#wanted(this.#rule.expr, 'boolean', 1)
  }

  /** Notes a fault, and gives nothing: whatever is around it has no fault of its own for that. */
  #refuse(expr: Expr, says: string): undefined {
    if (this.faults.length < 20) this.faults.push({ ...placeIn(this.#rule.text, this.#startOf(expr)), says })
    return undefined
  }

  /** Where a part begins: an operator stands after what is left of it. */
  #startOf(expr: Expr): number {
    const own = this.#rule.positions[String(expr.id)] ?? 0
    const { exprKind } = expr
    if (exprKind.case === 'callExpr') {
      const first = exprKind.value.target ?? exprKind.value.args[0]
      return first && /^_.+_$/.test(exprKind.value.function) ? Math.min(own, this.#startOf(first)) : own
    }
    if (exprKind.case === 'selectExpr' && exprKind.value.operand)
      return Math.min(own, this.#startOf(exprKind.value.operand))
    return own
  }

  /** A part that has to give a type. */
  #wanted(expr: Expr, type: RuleType, level: number): Term | undefined {
    const term = this.#read(expr, level)
    if (term === undefined || term.type === type || term.type === 'any') return term
    return this.#refuse(expr, `is ${words[term.type]} where ${words[type]} is wanted`)
  }

  #read(expr: Expr, level: number): Term | undefined {
    if (!this.#another(expr)) return undefined
    if (level > ruleLimits.levels) return this.#refuse(expr, `lies more than ${ruleLimits.levels} levels deep`)
    const { exprKind } = expr
    switch (exprKind.case) {
      case 'constExpr':
        return this.#constant(expr, exprKind.value)
      case 'identExpr':
        return this.#variable(expr, exprKind.value.name)
      case 'selectExpr':
        return this.#member(expr, exprKind.value.operand!, exprKind.value.field, exprKind.value.testOnly)
      case 'callExpr':
        return this.#call(expr, exprKind.value, level + 1)
      case 'listExpr':
        return this.#refuse(expr, 'a list can only stand after “in”')
      case 'structExpr':
        return this.#refuse(expr, 'a rule makes no maps and no messages')
      case 'comprehensionExpr':
        return this.#refuse(expr, 'a rule goes through no lists; to count what happened use count(…)')
      default:
        return this.#refuse(expr, 'is nothing that a rule can say')
    }
  }

  /** Counts a part, of which there are only so many. */
  #another(expr: Expr): boolean {
    this.#nodes++
    if (this.#nodes <= ruleLimits.nodes) return true
    if (!this.#isTooMuch) this.#refuse(expr, `the rule has more than ${ruleLimits.nodes} parts`)
    this.#isTooMuch = true
    return false
  }

  #constant(expr: Expr, { constantKind: { case: kind, value } }: Constant): Term | undefined {
    switch (kind) {
      case 'boolValue':
        return { is: 'constant', type: 'boolean', value, expr }
      case 'stringValue':
        return value.includes('\0')
          ? this.#refuse(expr, 'a text cannot have the character U+0000')
          : { is: 'constant', type: 'text', value, expr }
      case 'doubleValue':
      case 'int64Value':
        return Number.isFinite(Number(value))
          ? { is: 'constant', type: 'number', value: Number(value), expr }
          : this.#refuse(expr, 'is larger than a number can be')
      case 'nullValue':
        return this.#refuse(expr, 'nothing is equal to null here; ask has(user.pass) whether it is known')
      default:
        return this.#refuse(
          expr,
          'a rule knows texts, numbers, true and false; there are no bytes and no unsigned numbers',
        )
    }
  }

  #variable(expr: Expr, name: string): Term | undefined {
    if (name === 'now') return { is: 'now', type: 'instant', expr }
    if (name === this.#occurrence)
      return this.#refuse(expr, `names what happened; ask for ${name}.data.price or ${name}.at`)
    if (name === 'user') return this.#refuse(expr, 'the user is no value; ask for an attribute, such as user.pass')
    if (name === 'device')
      return this.#refuse(expr, 'the device is no value; ask for one of its facts, such as device.platform')
    const known = [...variables, ...(this.#occurrence ? [this.#occurrence] : [])]
    return this.#refuse(
      expr,
      `${name} is no name that a rule knows${this.#likely(name, [...known, ...Object.keys(functions)])}`,
    )
  }

  #likely(name: string, known: readonly string[]): string {
    const nearest = nearestOf(name, known)
    return nearest === undefined ? '' : `; the nearest is ${nearest}`
  }

  #member(expr: Expr, operand: Expr, field: string, asks: boolean): Term | undefined {
    if (!this.#another(expr)) return undefined
    const root = rootOf(operand)
    if (root === 'user') return this.#attribute(expr, field, asks)
    if (root === 'device') return this.#deviceField(expr, field, asks)
    const path = this.#pathOf(expr)
    if (path) return this.#ofOccurrence(expr, path, asks)
    // An attribute has no members; whatever is wrong further left is said there.
    const before = this.#read(operand, 1)
    return before && this.#refuse(expr, `${words[before.type]} has no member ${field}`)
  }

  #attribute(expr: Expr, name: string, asks: boolean): Term | undefined {
    const type = this.#vocabulary.attributes.get(name)
    if (type === undefined) {
      const nearest = this.#likely(name, [...this.#vocabulary.attributes.keys()])
      return this.#refuse(expr, `no attribute ${name} is known${nearest}`)
    }
    return asks ? { is: 'has-attribute', type: 'boolean', name, expr } : { is: 'attribute', type, name, expr }
  }

  #deviceField(expr: Expr, name: string, asks: boolean): Term | undefined {
    if (!Object.hasOwn(deviceFields, name))
      return this.#refuse(expr, `a device has no ${name}${this.#likely(name, Object.keys(deviceFields))}`)
    const field = name as DeviceField
    return asks
      ? { is: 'has-field', type: 'boolean', name: field, expr }
      : { is: 'field', type: deviceFields[field], name: field, expr }
  }

  /** The members that lead from the occurrence to here. */
  #pathOf(expr: Expr): string[] | undefined {
    const { exprKind } = expr
    if (exprKind.case === 'identExpr') return exprKind.value.name === this.#occurrence ? [] : undefined
    const step = stepOf(expr)
    const before = step && this.#pathOf(step.operand)
    return before && [...before, step.field]
  }

  #ofOccurrence(expr: Expr, [first = '', ...path]: readonly string[], asks: boolean): Term | undefined {
    if (first === 'data' && path.length > 0)
      return asks ? { is: 'has-data', type: 'boolean', path, expr } : { is: 'data', type: 'any', path, expr }
    if (path.length === 0 && !asks && (first === 'type' || first === 'source'))
      return { is: 'occurrence', type: 'text', field: first, expr }
    if (path.length === 0 && !asks && first === 'at') return { is: 'occurrence', type: 'instant', field: first, expr }
    return this.#refuse(expr, `what happened has data.…, at, type and source, and no ${first}`)
  }

  #call(expr: Expr, call: Expr_Call, level: number): Term | undefined {
    const { function: name, args, target } = call
    const [a, b, c] = args
    if (Object.hasOwn(comparisons, name)) return this.#compare(expr, comparisons[name]!, a!, b!, level)
    if (Object.hasOwn(arithmetics, name)) return this.#arithmetic(expr, arithmetics[name]!, a!, b!, level)
    switch (name) {
      case '_&&_':
      case '_||_':
        return this.#both(expr, name === '_&&_' ? 'and' : 'or', a!, b!, level)
      case '!_': {
        const of = this.#wanted(a!, 'boolean', level)
        return of && { is: 'not', type: 'boolean', of, expr }
      }
      case '-_':
        return this.#negate(expr, a!, level)
      case '_?_:_':
        return this.#choose(expr, [a!, b!, c!], level)
      case '@in':
        return this.#in(expr, a!, b!, level)
      case '_[_]':
        return this.#index(expr, a!, b!)
      default:
        return this.#named(expr, name, target, args, level)
    }
  }

  #both(expr: Expr, is: 'and' | 'or', a: Expr, b: Expr, level: number): Term | undefined {
    const left = this.#wanted(a, 'boolean', level)
    const right = this.#wanted(b, 'boolean', level)
    return left && right && { is, type: 'boolean', of: [left, right], expr }
  }

  #compare(expr: Expr, how: Comparison, a: Expr, b: Expr, level: number): Term | undefined {
    const left = this.#read(a, level)
    const right = this.#read(b, level)
    if (!left || !right) return undefined
    if (left.type === 'any' && right.type === 'any')
      return this.#refuse(b, 'both sides come from the data; one of them has to have a type of its own')
    const type = left.type === 'any' ? right.type : left.type
    if (right.type !== type && right.type !== 'any')
      return this.#refuse(b, `${words[right.type]} cannot be compared with ${words[type]}`)
    if (!ordered.includes(type)) return this.#refuse(a, `${words[type]} cannot be compared; use near(…)`)
    if ((left.type === 'any' || right.type === 'any') && !['text', 'number', 'boolean'].includes(type))
      return this.#refuse(expr, `the data has texts, numbers, true and false; ${words[type]} is none`)
    return { is: 'compare', type: 'boolean', how, left, right, expr }
  }

  #arithmetic(expr: Expr, how: Arithmetic, a: Expr, b: Expr, level: number): Term | undefined {
    const left = this.#read(a, level)
    const right = this.#read(b, level)
    if (!left || !right) return undefined
    const type = resultOf(how, left.type, right.type)
    if (type === undefined) return this.#refuse(expr, `${words[left.type]} ${how} ${words[right.type]} gives nothing`)
    if (depthOf(left) >= ruleLimits.calculations || depthOf(right) >= ruleLimits.calculations)
      return this.#refuse(expr, `calculations lie ${ruleLimits.calculations} deep at most`)
    return { is: 'arithmetic', type, how, left, right, expr }
  }

  #negate(expr: Expr, a: Expr, level: number): Term | undefined {
    const of = this.#wanted(a, 'number', level)
    if (of?.is === 'constant') return { ...of, value: -(of.value as number), expr }
    return of && (of.type === 'any' ? this.#refuse(a, untyped) : { is: 'negate', type: 'number', of, expr })
  }

  #choose(expr: Expr, [a, b, c]: readonly [Expr, Expr, Expr], level: number): Term | undefined {
    const when = this.#wanted(a, 'boolean', level)
    const then = this.#read(b, level)
    const otherwise = this.#read(c, level)
    if (!when || !then || !otherwise) return undefined
    if (then.type === 'any') return this.#refuse(b, untyped)
    if (then.type !== otherwise.type)
      return this.#refuse(c, `is ${words[otherwise.type]} where the other case gives ${words[then.type]}`)
    return { is: 'choose', type: then.type, when, then, otherwise, expr }
  }

  #in(expr: Expr, a: Expr, b: Expr, level: number): Term | undefined {
    const { exprKind } = b
    const root = rootOf(b)
    if (root === 'user' || root === 'device') {
      const name = textOf(a)
      if (name === undefined) return this.#refuse(a, `before “in ${root}” stands a name, such as "pass"`)
      return root === 'user' ? this.#attribute(expr, name, true) : this.#deviceField(expr, name, true)
    }
    if (exprKind.case !== 'listExpr') {
      this.#read(b, level)
      return this.#refuse(b, 'after “in” stands a list, such as ["weekly", "season"], or user')
    }
    const of = this.#read(a, level)
    const { elements } = exprKind.value
    if (elements.length > ruleLimits.list) return this.#refuse(b, `a list has ${ruleLimits.list} values at most`)
    // Its values are told apart by nothing but themselves, so they count as one part together.
    const list = elements.map((one) => this.#element(one))
    if (!of || list.some((one) => one === undefined)) return undefined
    const type = of.type === 'any' ? (list[0]?.type ?? 'any') : of.type
    const other = list.findIndex((one) => one!.type !== type)
    if (other >= 0) return this.#refuse(elements[other]!, `is ${words[list[other]!.type]} in a list for ${words[type]}`)
    return { is: 'among', type: 'boolean', of, list: list as Term[], expr }
  }

  #element(expr: Expr): Term | undefined {
    const { exprKind } = expr
    const minus = exprKind.case === 'callExpr' && exprKind.value.function === '-_' ? exprKind.value.args[0] : undefined
    const constant = (minus ?? expr).exprKind
    if (constant.case !== 'constExpr') return this.#refuse(expr, 'a list has only texts, numbers, true and false')
    const term = this.#constant(expr, constant.value)
    return term?.is === 'constant' && minus && typeof term.value === 'number' ? { ...term, value: -term.value } : term
  }

  #index(expr: Expr, a: Expr, b: Expr): Term | undefined {
    if (!this.#another(expr)) return undefined
    const root = rootOf(a)
    const name = textOf(b)
    if (root === 'user' || root === 'device') {
      if (name === undefined) return this.#refuse(b, 'between the brackets stands a name, such as ["home-pier"]')
      return root === 'user' ? this.#attribute(expr, name, false) : this.#deviceField(expr, name, false)
    }
    const path = this.#pathOf(expr)
    return path
      ? this.#ofOccurrence(expr, path, false)
      : this.#refuse(expr, 'only user, device and data are asked by a name in brackets')
  }

  #named(expr: Expr, name: string, target: Expr | undefined, args: readonly Expr[], level: number): Term | undefined {
    if (Object.hasOwn(instead, name)) return this.#refuse(expr, instead[name]!)
    if (!Object.hasOwn(functions, name))
      return this.#refuse(expr, `there is no function ${name}${this.#likely(name, Object.keys(functions))}`)
    if (textTests.includes(name)) return this.#textTest(expr, name as TextTest, target, args, level)
    if (name === 'size') return this.#size(expr, target, args, level)
    if (target) return this.#refuse(expr, `${name} is written ${functions[name]}`)
    if (tells.includes(name)) return this.#told(expr, name as Told, args)
    switch (name) {
      case 'follows':
        return this.#follows(expr, args)
      case 'count':
        return this.#count(expr, args, level)
      case 'first':
      case 'last': {
        const event = this.#text(expr, name, args, 1)
        return event === undefined ? undefined : { is: name, type: 'instant', event, expr }
      }
      case 'near':
        return this.#near(expr, args, level)
      case 'segment':
        return this.#segment(expr, args)
      case 'reached': {
        const notification = this.#text(expr, name, args, 1)
        return notification === undefined ? undefined : { is: name, type: 'boolean', name: notification, expr }
      }
      case 'version':
        return this.#version(expr, args, level)
      case 'duration':
      case 'timestamp':
        return this.#time(expr, name, args)
      default:
        return this.#refuse(expr, `${name} is written ${functions[name]}`)
    }
  }

  /** A text that stands there as it is; nothing that is only known of somebody. */
  #text(expr: Expr, name: string, args: readonly Expr[], count: number): string | undefined {
    const text = args[0] && textOf(args[0])
    if (args.length === count && text !== undefined && text.length > 0) return text
    return this.#refuse(args[0] ?? expr, `${name} is written ${functions[name]}`)
  }

  #window(name: string, expr: Expr | undefined, at: Expr): number | undefined {
    const { exprKind } = expr ?? at
    const text =
      exprKind.case === 'callExpr' && exprKind.value.function === 'duration' && exprKind.value.args[0]
        ? textOf(exprKind.value.args[0])
        : undefined
    if (text === undefined) return this.#refuse(expr ?? at, `${name} is written ${functions[name]}`)
    const ms = durationOfText(text)
    if (typeof ms === 'string') return this.#refuse(expr!, ms)
    if (ms <= 0) return this.#refuse(expr!, 'looks back for no time at all; a duration above zero is wanted')
    const { keptMs } = this.#vocabulary
    if (keptMs !== undefined && ms > keptMs)
      return this.#refuse(expr!, `reaches further back than is kept, which is ${Math.floor(keptMs / 3_600_000)}h`)
    return ms
  }

  #told(expr: Expr, what: Told, args: readonly Expr[]): Term | undefined {
    if (args.length !== 1) return this.#refuse(expr, `${what} is written ${functions[what]}`)
    const withinMs = this.#window(what, args[0], expr)
    return withinMs === undefined ? undefined : { is: 'told', type: 'number', what, withinMs, expr }
  }

  #follows(expr: Expr, args: readonly Expr[]): Term | undefined {
    const topic = this.#text(expr, 'follows', args, 1)
    if (topic === undefined) return undefined
    if (!isTopicName(topic))
      return this.#refuse(args[0]!, 'is not a topic: small letters, digits, hyphens and dots, 64 at most')
    return { is: 'follows', type: 'boolean', topic, expr }
  }

  #count(expr: Expr, args: readonly Expr[], level: number): Term | undefined {
    if (this.#occurrence !== undefined) return this.#refuse(expr, 'a condition on what happened counts nothing itself')
    const event = this.#text(expr, 'count', args, args.length === 4 ? 4 : 2)
    const withinMs = event === undefined ? undefined : this.#window('count', args[1], expr)
    if (event === undefined || withinMs === undefined) return undefined
    if (args.length === 2) return { is: 'count', type: 'number', event, withinMs, each: undefined, expr }
    const { exprKind } = args[2]!
    const name = exprKind.case === 'identExpr' ? exprKind.value.name : undefined
    if (name === undefined || (variables as readonly string[]).includes(name))
      return this.#refuse(
        args[2]!,
        'what happened gets a name of its own, as in count("example.booked", duration("720h"), o, o.data.price > 20)',
      )
    this.#occurrence = name
    const each = this.#wanted(args[3]!, 'boolean', level)
    this.#occurrence = undefined
    return each && { is: 'count', type: 'number', event, withinMs, each, expr }
  }

  #near(expr: Expr, args: readonly Expr[], level: number): Term | undefined {
    if (args.length !== 4) return this.#refuse(expr, `near is written ${functions.near}`)
    const place = this.#read(args[0]!, level)
    const numbers = args.slice(1).map((one) => this.#element(one))
    if (!place || numbers.some((one) => one === undefined)) return undefined
    if (place.type !== 'place') return this.#refuse(args[0]!, `is ${words[place.type]} where a place is wanted`)
    const [longitude, latitude, metres] = numbers.map((one) => (one!.is === 'constant' ? one!.value : Number.NaN))
    if (typeof longitude !== 'number' || Math.abs(longitude) > 180)
      return this.#refuse(args[1]!, 'wants a longitude from -180 to 180; longitude comes first')
    if (typeof latitude !== 'number' || Math.abs(latitude) > 90)
      return this.#refuse(args[2]!, 'wants a latitude from -90 to 90; longitude comes first')
    if (typeof metres !== 'number' || metres < 0 || metres > 20_100_000)
      return this.#refuse(args[3]!, 'wants metres, from 0 to 20,100,000')
    return { is: 'near', type: 'boolean', place, longitude, latitude, metres, expr }
  }

  #segment(expr: Expr, args: readonly Expr[]): Term | undefined {
    const name = this.#text(expr, 'segment', args, 1)
    if (name === undefined) return undefined
    if (!this.#vocabulary.segments.has(name))
      return this.#refuse(args[0]!, `there is no segment ${name}${this.#likely(name, [...this.#vocabulary.segments])}`)
    return { is: 'segment', type: 'boolean', name, expr }
  }

  #version(expr: Expr, args: readonly Expr[], level: number): Term | undefined {
    const of =
      args.length === 1
        ? this.#wanted(args[0]!, 'text', level)
        : this.#refuse(expr, `version is written ${functions.version}`)
    if (of?.type === 'any') return this.#refuse(args[0]!, untyped)
    if (of?.is === 'constant' && versionKey(String(of.value)) === undefined)
      return this.#refuse(args[0]!, 'is no version: one to four numbers with dots between, such as "4.2.0"')
    return of && { is: 'version', type: 'version', of, expr }
  }

  #time(expr: Expr, name: 'duration' | 'timestamp', args: readonly Expr[]): Term | undefined {
    const text = this.#text(expr, name, args, 1)
    if (text === undefined) return undefined
    const value = name === 'duration' ? durationOfText(text) : instantOfText(text)
    if (typeof value === 'string') return this.#refuse(args[0]!, value)
    return { is: 'constant', type: name === 'duration' ? 'duration' : 'instant', value, expr }
  }

  #textTest(
    expr: Expr,
    how: TextTest,
    target: Expr | undefined,
    args: readonly Expr[],
    level: number,
  ): Term | undefined {
    if (!target || args.length !== 1) return this.#refuse(expr, `${how} is written ${functions[how]}`)
    const of = this.#wanted(target, 'text', level)
    const what = this.#wanted(args[0]!, 'text', level)
    if (!of || !what) return undefined
    if (what.type === 'any') return this.#refuse(args[0]!, untyped)
    return { is: 'text-test', type: 'boolean', how, of, what, expr }
  }

  #size(expr: Expr, target: Expr | undefined, args: readonly Expr[], level: number): Term | undefined {
    const all = [...(target ? [target] : []), ...args]
    const of =
      all.length === 1 ? this.#wanted(all[0]!, 'text', level) : this.#refuse(expr, `size is written ${functions.size}`)
    if (of?.type === 'any') return this.#refuse(all[0]!, untyped)
    return of && { is: 'size', type: 'number', of, expr }
  }
}

const untyped = 'comes from the data and has no type of its own; compare it with something that has one'

/** How deep calculations lie in one another. */
function depthOf(term: Term): number {
  const below = Math.max(0, ...innerOf(term).map(depthOf))
  return term.is === 'arithmetic' ? below + 1 : below
}

/** The type of a calculation, where there is one. */
function resultOf(how: Arithmetic, left: RuleType, right: RuleType): RuleType | undefined {
  if (left === 'number' && right === 'number') return 'number'
  if (how === '+') {
    if (left === 'text' && right === 'text') return 'text'
    if (left === 'duration' && right === 'duration') return 'duration'
    if ((left === 'instant' && right === 'duration') || (left === 'duration' && right === 'instant')) return 'instant'
  }
  if (how === '-') {
    if (left === 'instant' && right === 'instant') return 'duration'
    if (left === 'instant' && right === 'duration') return 'instant'
    if (left === 'duration' && right === 'duration') return 'duration'
  }
  return undefined
}

const rootOf = ({ exprKind }: Expr): string | undefined =>
  exprKind.case === 'identExpr' ? exprKind.value.name : undefined

const textOf = ({ exprKind }: Expr): string | undefined =>
  exprKind.case === 'constExpr' && exprKind.value.constantKind.case === 'stringValue'
    ? exprKind.value.constantKind.value
    : undefined

/** One step of a way through data: `.price` or `["price"]`. */
function stepOf({ exprKind }: Expr): { readonly operand: Expr; readonly field: string } | undefined {
  if (exprKind.case === 'selectExpr' && exprKind.value.operand)
    return { operand: exprKind.value.operand, field: exprKind.value.field }
  if (exprKind.case !== 'callExpr' || exprKind.value.function !== '_[_]') return undefined
  const [operand, name] = exprKind.value.args
  const field = name && textOf(name)
  return operand && field !== undefined ? { operand, field } : undefined
}
