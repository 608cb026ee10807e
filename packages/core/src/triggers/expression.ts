import {
  type CelInput,
  type CelResult,
  CelScalar,
  celEnv,
  celFunc,
  celMap,
  isCelError,
  isCelList,
  isCelMap,
  isCelUint,
  plan,
} from '@bufbuild/cel'
import type { Expr } from '@bufbuild/cel-spec/cel/expr/syntax_pb.js'
import { isMessage } from '@bufbuild/protobuf'
import { DurationSchema, TimestampSchema, timestampDate, timestampFromDate } from '@bufbuild/protobuf/wkt'
import type { Json } from '../content/content.ts'
import { type ClauseShape, clausesOf } from '../rules/clauses.ts'
import { type ExplainedPart, ruleText } from '../rules/explain-rule.ts'
import { placeIn, RuleRefused } from '../rules/fault.ts'
import { type ReadRule, readRule, ruleLimits } from '../rules/read-rule.ts'

/** What an expression of a trigger can speak of. */
export const triggerNames = ['row', 'before', 'event', 'gone', 'now'] as const
export type TriggerName = (typeof triggerNames)[number]

/** What comes from outside, as an expression sees it: numbers are doubles, moments are timestamps. */
export type ExpressionInput = { readonly [Name in TriggerName]?: unknown }

/** A value, or why there is none. */
export type ExpressionResult =
  | { readonly is: 'value'; readonly value: Json }
  | { readonly is: 'neither'; readonly says: string }

/** Loops over lists that lie in one another, and so many in all, could take longer than anybody waits. */
const maxLoops = 4

const { DOUBLE, INT } = CelScalar
const both = [
  ['_+_', (a: number, b: number) => a + b],
  ['_-_', (a: number, b: number) => a - b],
  ['_*_', (a: number, b: number) => a * b],
  ['_/_', (a: number, b: number) => a / b],
] as const

/** A whole literal beside a number is one. */
const env = celEnv({
  funcs: [
    ...both.flatMap(([name, act]) => [
      celFunc(name, [DOUBLE, INT], DOUBLE, (a: number, b: bigint) => act(a, Number(b))),
      celFunc(name, [INT, DOUBLE], DOUBLE, (a: bigint, b: number) => act(Number(a), b)),
    ]),
    celFunc('_%_', [DOUBLE, DOUBLE], DOUBLE, (a: number, b: number) => a % b),
    celFunc('_%_', [DOUBLE, INT], DOUBLE, (a: number, b: bigint) => a % Number(b)),
    celFunc('_%_', [INT, DOUBLE], DOUBLE, (a: bigint, b: number) => Number(a) % b),
  ],
})

type Program = (given?: Record<string, CelInput>) => CelResult

/** An expression in CEL, all of it, read and looked at once. */
export class Expression {
  readonly text: string
  /**
   * What evaluation costs for each character of its input: the number of its parts, since each part reads the input once at most;
   * infinite with a loop or a pattern.
   */
  readonly effort: number
  readonly #expr: Expr
  readonly #sourceInfo: ReadRule['sourceInfo']
  readonly #evaluate: Program

  /**
   * @param names what there is to speak of
   * @throws {RuleRefused} for what cannot be read, names nothing that there is, or could take too long
   */
  constructor(text: string, names: readonly TriggerName[] = triggerNames) {
    const read = readRule(text)
    this.text = text
    this.effort = effortOf(look(read, names))
    this.#expr = read.expr
    this.#sourceInfo = read.sourceInfo
    this.#evaluate = plan(env, read.expr) as Program
  }

  evaluate(given: ExpressionInput): ExpressionResult {
    return found(this.#evaluate, bindingsOf(given))
  }

  /** Clause by clause, those that and, or and not put together. */
  explain(given: ExpressionInput): ExplainedPart[] {
    const bindings = bindingsOf(given)
    const of = (expr: Expr): ExpressionResult => found(plan(env, expr) as Program, bindings)
    return clausesOf(this.#expr, shape).map(({ part, asks, depth }) => {
      const verdict = of(part)
      const values =
        shape.inner(asks).length > 0
          ? []
          : askedIn(asks).map((asked) => {
              const one = of(asked)
              return one.is === 'value' ? JSON.stringify(one.value) : 'not there'
            })
      return {
        text: ruleText(part, this.#sourceInfo),
        value: values.length === 0 ? null : values.join(', '),
        verdict: verdict.is === 'value' ? verdict.value === true : null,
        depth,
      }
    })
  }

  /** The members of a name that it uses: `data` and `id` of `event` in `event.data.x == event.id`. */
  members(name: TriggerName): string[] {
    const found = new Set<string>()
    everyPart(this.#expr, ({ exprKind }) => {
      if (exprKind.case !== 'selectExpr') return
      const { operand, field } = exprKind.value
      if (operand?.exprKind.case === 'identExpr' && operand.exprKind.value.name === name) found.add(field)
    })
    return [...found]
  }

  /** Whether it holds. What is neither yes nor no does not. */
  holds(given: ExpressionInput): { readonly holds: boolean; readonly says?: string } {
    const found = this.evaluate(given)
    if (found.is === 'neither') return { holds: false, says: found.says }
    return found.value === true ? { holds: true } : { holds: false }
  }
}

function found(evaluate: Program, bindings: Record<string, CelInput>): ExpressionResult {
  let result: CelResult
  try {
    result = evaluate(bindings)
  } catch (error) {
    return { is: 'neither', says: error instanceof Error ? error.message : String(error) }
  }
  if (isCelError(result)) return { is: 'neither', says: result.message }
  const value = jsonOf(result)
  return value === undefined ? { is: 'neither', says: 'is nothing that can be said' } : { is: 'value', value }
}

function everyPart(expr: Expr, visit: (part: Expr) => void): void {
  visit(expr)
  for (const part of partsOf(expr)) everyPart(part, visit)
}

function partsOf({ exprKind }: Expr): Expr[] {
  const there = (...parts: readonly (Expr | undefined)[]) => parts.filter((part) => part !== undefined)
  switch (exprKind.case) {
    case 'selectExpr':
      return there(exprKind.value.operand)
    case 'callExpr':
      return there(exprKind.value.target, ...exprKind.value.args)
    case 'listExpr':
      return exprKind.value.elements
    case 'structExpr':
      return exprKind.value.entries.flatMap(({ keyKind, value }) =>
        there(keyKind.case === 'mapKey' ? keyKind.value : undefined, value),
      )
    case 'comprehensionExpr': {
      const { iterRange, accuInit, loopCondition, loopStep, result } = exprKind.value
      return there(iterRange, accuInit, loopCondition, loopStep, result)
    }
    default:
      return []
  }
}

/** The arguments of an operator, as the language names it. */
const argumentsOf = ({ exprKind }: Expr, operator: string): readonly Expr[] | undefined =>
  exprKind.case === 'callExpr' && exprKind.value.function === operator ? exprKind.value.args : undefined

const shape: ClauseShape<Expr> = {
  connective: (expr) => (argumentsOf(expr, '_&&_') ? 'and' : argumentsOf(expr, '_||_') ? 'or' : undefined),
  negated: (expr) => argumentsOf(expr, '!_')?.[0],
  inner: (expr) => argumentsOf(expr, '_&&_') ?? argumentsOf(expr, '_||_') ?? argumentsOf(expr, '_?_:_') ?? [],
}

/** What a comparison compares, but for what it says itself. */
function askedIn({ exprKind }: Expr): Expr[] {
  if (exprKind.case !== 'callExpr') return []
  const { target, args } = exprKind.value
  return [...(target ? [target] : []), ...args].filter(
    ({ exprKind: own }) => own.case !== 'constExpr' && own.case !== 'listExpr',
  )
}

/** A row whose names are anybody’s: a map, so that no name of it means anything to the language it is written in. */
const bindingsOf = (given: ExpressionInput): Record<string, CelInput> =>
  Object.fromEntries(triggerNames.map((name) => [name, celOf(given[name] ?? (name === 'gone' ? false : {}))]))

function celOf(value: unknown): CelInput {
  if (Array.isArray(value)) return value.map(celOf) as CelInput
  if (value instanceof Date) return timestampFromDate(value) as unknown as CelInput
  if (typeof value === 'object' && value !== null && Object.getPrototypeOf(value) !== null && !isPlain(value))
    return value as CelInput
  if (typeof value === 'object' && value !== null)
    return celMap(
      new Map(Object.entries(value).map(([name, own]) => [name, celOf(own)])) as never,
    ) as unknown as CelInput
  return value as CelInput
}

const isPlain = (value: object): boolean => Object.getPrototypeOf(value) === Object.prototype

function jsonOf(value: unknown): Json | undefined {
  if (value === null || typeof value === 'string' || typeof value === 'boolean') return value
  if (typeof value === 'number') return Number.isFinite(value) ? value : undefined
  if (typeof value === 'bigint') return Number(value)
  if (isCelUint(value)) return Number(value.value)
  if (isCelList(value)) {
    const all = [...value].map(jsonOf)
    return all.every((one) => one !== undefined) ? (all as Json[]) : undefined
  }
  if (isCelMap(value)) {
    const all = [...value].map(([name, own]) => [String(name), jsonOf(own)] as const)
    return all.every(([, own]) => own !== undefined) ? (Object.fromEntries(all) as Json) : undefined
  }
  if (typeof value === 'object' && 'message' in value) return jsonOf((value as { message: unknown }).message)
  if (isMessage(value, TimestampSchema)) return timestampDate(value).toISOString()
  if (isMessage(value, DurationSchema)) return Number(value.seconds) + value.nanos / 1e9
  return undefined
}

type Looked = { readonly nodes: number; readonly loops: number; readonly patterns: number }

const effortOf = ({ nodes, loops, patterns }: Looked): number =>
  loops + patterns > 0 ? Number.POSITIVE_INFINITY : nodes

/** Whether it is worked out of literals alone, without a pattern: the same whatever comes. */
function isConstant({ exprKind }: Expr): boolean {
  switch (exprKind.case) {
    case 'constExpr':
      return true
    case 'listExpr':
      return exprKind.value.elements.every(isConstant)
    case 'callExpr': {
      const { function: name, target, args } = exprKind.value
      return name !== 'matches' && [...(target ? [target] : []), ...args].every(isConstant)
    }
    default:
      return false
  }
}

/** A call of literals that fails would fail for every row and event. */
const failsAlways = (node: Expr): boolean =>
  node.exprKind.case === 'callExpr' && isConstant(node) && found(plan(env, node) as Program, {}).is === 'neither'

/** Refuses names that there are not, loops in loops, and what can never be worked out. @throws {RuleRefused} */
function look({ text, expr, positions, sourceInfo }: ReadRule, names: readonly string[]): Looked {
  let nodes = 0
  let loops = 0
  let patterns = 0
  const refuse = (at: Expr, says: string): never => {
    throw new RuleRefused([{ ...placeIn(text, positions[String(at.id)] ?? 0), says }])
  }
  const walk = (node: Expr | undefined, own: ReadonlySet<string>, inLoop: boolean): void => {
    if (!node) return
    if (++nodes > ruleLimits.nodes) refuse(node, `has more than ${ruleLimits.nodes} parts`)
    const { exprKind } = node
    switch (exprKind.case) {
      case 'identExpr': {
        const { name } = exprKind.value
        if (!own.has(name) && !names.includes(name) && !types.has(name))
          refuse(node, `“${name}” is not known here; there are ${names.join(', ')}`)
        return
      }
      case 'selectExpr':
        walk(exprKind.value.operand, own, inLoop)
        return
      case 'callExpr':
        if (exprKind.value.function === 'matches') patterns++
        for (const one of [exprKind.value.target, ...exprKind.value.args]) walk(one, own, inLoop)
        if (failsAlways(node))
          refuse(
            node,
            `“${ruleText(node, sourceInfo)}” can never be worked out: its parts do not go together; string(…) makes a text of a number`,
          )
        return
      case 'listExpr':
        for (const one of exprKind.value.elements) walk(one, own, inLoop)
        return
      case 'structExpr':
        for (const { keyKind, value } of exprKind.value.entries) {
          if (keyKind.case === 'mapKey') walk(keyKind.value, own, inLoop)
          walk(value, own, inLoop)
        }
        return
      case 'comprehensionExpr': {
        const loop = exprKind.value
        if (inLoop) refuse(node, 'has a loop within a loop')
        if (++loops > maxLoops) refuse(node, `has more than ${maxLoops} loops`)
        walk(loop.iterRange, own, inLoop)
        walk(loop.accuInit, own, inLoop)
        const inner = new Set([...own, loop.iterVar, loop.accuVar])
        for (const one of [loop.loopCondition, loop.loopStep, loop.result]) walk(one, inner, true)
        return
      }
      default:
        return
    }
  }
  walk(expr, new Set(), false)
  return { nodes, loops, patterns }
}

/** Names of types, which stand for themselves. */
const types = new Set(['int', 'uint', 'double', 'bool', 'string', 'bytes', 'list', 'map', 'null_type', 'type'])
