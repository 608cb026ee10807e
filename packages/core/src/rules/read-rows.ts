import { unparse } from '@bufbuild/cel'
import type { Expr, Expr_Call } from '@bufbuild/cel-spec/cel/expr/syntax_pb.js'
import { comparisons } from './check-tables.ts'
import { textOf } from './expr-parts.ts'
import { RuleRefused } from './fault.ts'
import { readRule } from './read-rule.ts'
import { type FactHow, isLength, noRows, type RowValue, type RuleGroup, type RuleRow } from './row.ts'
import { type Comparison, mirrored } from './term.ts'

/**
 * A rule as rows: what they can show, they show; the rest stays text. Nothing needs to be declared for it.
 * @returns undefined where the rule cannot be read
 */
export function rowsOfRule(text: string): RuleGroup | undefined {
  if (text.trim() === '') return noRows
  try {
    const row = rowOf(readRule(text).expr)
    return row.is === 'group' && !row.not ? row : { ...noRows, rows: [row] }
  } catch (error) {
    if (error instanceof RuleRefused) return undefined
    throw error
  }
}

const textTests = ['startsWith', 'endsWith', 'contains'] as const
const tells = ['rung', 'received', 'opened'] as const
const names = ['follows', 'reached', 'segment'] as const

const asText = (expr: Expr): RuleRow => ({ is: 'text', rule: unparse(expr) })

function rowOf(expr: Expr): RuleRow {
  const { exprKind } = expr
  const yes = factOf(expr)
  if (yes) return { is: 'fact', ...yes, how: '==', value: { is: 'boolean', yes: true }, not: false }
  if (exprKind.case === 'selectExpr' && exprKind.value.testOnly) {
    const asked = factOf(expr, true)
    return asked ? { is: 'fact', ...asked, how: 'known', value: undefined, not: false } : asText(expr)
  }
  return exprKind.case === 'callExpr' ? rowOfCall(expr, exprKind.value) : asText(expr)
}

function rowOfCall(expr: Expr, { function: name, target, args }: Expr_Call): RuleRow {
  const [first, second] = args
  if (name === '_&&_' || name === '_||_')
    return {
      is: 'group',
      how: name === '_&&_' ? 'all' : 'any',
      not: false,
      rows: args.flatMap((one) => linesOf(one, name)),
    }
  if (name === '!_') return negated(rowOf(first!))
  if (name === '@in') return amongOf(expr, first!, second!)
  const sign = comparisons[name]
  if (sign) return comparedOf(first!, sign, second!) ?? comparedOf(second!, mirrored[sign], first!) ?? asText(expr)
  const test = textTests.find((one) => one === name)
  if (test) {
    const fact = target && factOf(target)
    const value = first && textOf(first)
    return fact && value !== undefined
      ? { is: 'fact', ...fact, how: test, value: { is: 'text', text: value }, not: false }
      : asText(expr)
  }
  const named = names.find((one) => one === name)
  const given = first && textOf(first)
  if (named && given !== undefined && args.length === 1) return { is: 'named', what: named, name: given, not: false }
  return name === 'near' ? nearOf(expr, args) : asText(expr)
}

/** Clauses that are put together by the same word stand in one group. */
function linesOf(expr: Expr, name: string): readonly RuleRow[] {
  const { exprKind } = expr
  return exprKind.case === 'callExpr' && exprKind.value.function === name
    ? exprKind.value.args.flatMap((one) => linesOf(one, name))
    : [rowOf(expr)]
}

function negated(row: RuleRow): RuleRow {
  if (row.is === 'group' || row.is === 'named' || row.is === 'near') return { ...row, not: !row.not }
  if (row.is === 'fact') {
    if (row.value?.is === 'boolean' && row.how === '==')
      return { ...row, value: { is: 'boolean', yes: !row.value.yes } }
    const { how } = row
    return isComparison(how) ? { ...row, how: opposites[how] } : { ...row, not: !row.not }
  }
  if (row.is === 'times') return { ...row, how: opposites[row.how] }
  return { is: 'group', how: 'all', not: true, rows: [row] }
}

/** What is not known is neither way. */
const opposites: Readonly<Record<Comparison, Comparison>> = {
  '==': '!=',
  '!=': '==',
  '<': '>=',
  '<=': '>',
  '>': '<=',
  '>=': '<',
}
const isComparison = (how: FactHow): how is Comparison => how in opposites

type Fact = { readonly of: 'user' | 'device' | 'first' | 'last'; readonly name: string }

/** @param asks whether it is only asked whether it is there */
function factOf(expr: Expr, asks = false): Fact | undefined {
  const { exprKind } = expr
  if (exprKind.case === 'selectExpr' && exprKind.value.testOnly === asks && exprKind.value.operand)
    return memberOf(exprKind.value.operand, exprKind.value.field)
  if (exprKind.case !== 'callExpr') return undefined
  const { function: name, args } = exprKind.value
  const [first, second] = args
  const given = first && textOf(first)
  if ((name === 'first' || name === 'last') && given !== undefined && args.length === 1)
    return { of: name, name: given }
  const field = second && textOf(second)
  return name === '_[_]' && first && field !== undefined ? memberOf(first, field) : undefined
}

function memberOf({ exprKind }: Expr, name: string): Fact | undefined {
  const root = exprKind.case === 'identExpr' ? exprKind.value.name : undefined
  return root === 'user' || root === 'device' ? { of: root, name } : undefined
}

/** `"home-pier" in user`, or a fact in a list of values. */
function amongOf(expr: Expr, of: Expr, list: Expr): RuleRow {
  const key = textOf(of)
  const asked = key === undefined ? undefined : memberOf(list, key)
  if (asked) return { is: 'fact', ...asked, how: 'known', value: undefined, not: false }
  const fact = factOf(of)
  const values = list.exprKind.case === 'listExpr' ? list.exprKind.value.elements.map(plainOf) : []
  // A list of none is nothing that somebody could add to by a row that lacks its value.
  if (!fact || values.length === 0 || values.some((one) => one === undefined)) return asText(expr)
  return {
    is: 'fact',
    ...fact,
    how: 'in',
    value: { is: 'list', of: values as (string | number)[] },
    not: false,
  }
}

const plainOf = (expr: Expr): string | number | undefined => textOf(expr) ?? numberOf(expr)

function comparedOf(left: Expr, how: Comparison, right: Expr): RuleRow | undefined {
  const counted = timesOf(left, how, right)
  if (counted) return counted
  const version = versionOf(left)
  const known = version && factOf(version)
  const other = versionOf(right)
  const wanted = other && textOf(other)
  if (known && wanted !== undefined)
    return { is: 'fact', ...known, how, value: { is: 'version', text: wanted }, not: false }
  const fact = factOf(left)
  const value = fact && rowValueOf(right)
  // Of two facts none is the value.
  return fact && value ? { is: 'fact', ...fact, how, value, not: false } : undefined
}

function timesOf(left: Expr, how: Comparison, right: Expr): RuleRow | undefined {
  const times = numberOf(right)
  if (left.exprKind.case !== 'callExpr' || times === undefined) return undefined
  const { function: name, args } = left.exprKind.value
  const told = tells.find((one) => one === name)
  const within = args.length === (told ? 1 : 2) ? durationIn(args.at(-1)!) : undefined
  if (within === undefined) return undefined
  if (told) return { is: 'times', what: told, event: '', how, times, within }
  const event = name === 'count' ? textOf(args[0]!) : undefined
  return event === undefined ? undefined : { is: 'times', what: 'happened', event, how, times, within }
}

function versionOf({ exprKind }: Expr): Expr | undefined {
  return exprKind.case === 'callExpr' && exprKind.value.function === 'version' ? exprKind.value.args[0] : undefined
}

function nearOf(expr: Expr, args: readonly Expr[]): RuleRow {
  const fact = args[0] && factOf(args[0])
  const [longitude, latitude, metres] = args.slice(1).map(numberOf)
  if (fact?.of !== 'user' || longitude === undefined || latitude === undefined || metres === undefined)
    return asText(expr)
  return { is: 'near', place: fact.name, longitude, latitude, metres, not: false }
}

function rowValueOf(expr: Expr): RowValue | undefined {
  const text = textOf(expr)
  if (text !== undefined) return { is: 'text', text }
  const number = numberOf(expr)
  if (number !== undefined) return { is: 'number', number }
  const { exprKind } = expr
  if (exprKind.case === 'constExpr' && exprKind.value.constantKind.case === 'boolValue')
    return { is: 'boolean', yes: exprKind.value.constantKind.value }
  if (exprKind.case === 'identExpr' && exprKind.value.name === 'now') return { is: 'ago', duration: '0s' }
  if (exprKind.case !== 'callExpr') return undefined
  const { function: name, args } = exprKind.value
  const [first, second] = args
  if (name === 'timestamp' && first && textOf(first) !== undefined) return { is: 'instant', text: textOf(first)! }
  const isNow = first?.exprKind.case === 'identExpr' && first.exprKind.value.name === 'now'
  const duration = second && durationIn(second)
  if (!isNow || duration === undefined) return undefined
  return name === '_-_' ? { is: 'ago', duration } : name === '_+_' ? { is: 'ahead', duration } : undefined
}

function numberOf({ exprKind }: Expr): number | undefined {
  if (exprKind.case === 'callExpr' && exprKind.value.function === '-_') {
    const below = numberOf(exprKind.value.args[0]!)
    return below === undefined ? undefined : -below
  }
  if (exprKind.case !== 'constExpr') return undefined
  const { constantKind } = exprKind.value
  return constantKind.case === 'int64Value' || constantKind.case === 'doubleValue'
    ? Number(constantKind.value)
    : undefined
}

function durationIn({ exprKind }: Expr): string | undefined {
  if (exprKind.case !== 'callExpr' || exprKind.value.function !== 'duration') return undefined
  const text = exprKind.value.args[0] && textOf(exprKind.value.args[0])
  return text !== undefined && isLength(text) ? text : undefined
}
