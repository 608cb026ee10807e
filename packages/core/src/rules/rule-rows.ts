import { unparse } from '@bufbuild/cel'
import type { Expr, Expr_Call } from '@bufbuild/cel-spec/cel/expr/syntax_pb.js'
import { durationOfText, instantOfText } from './duration-text.ts'
import { RuleRefused } from './fault.ts'
import { readRule } from './read-rule.ts'
import type { Comparison, Told } from './term.ts'

/** What a fact is compared with. Durations and instants stay as they are written. */
export type RowValue =
  | { readonly is: 'text' | 'version' | 'instant'; readonly text: string }
  | { readonly is: 'number'; readonly number: number }
  | { readonly is: 'boolean'; readonly yes: boolean }
  /** So long before now, or after it. */
  | { readonly is: 'ago' | 'ahead'; readonly duration: string }
  | { readonly is: 'list'; readonly of: readonly (string | number)[] }

export type FactHow = Comparison | 'in' | 'startsWith' | 'endsWith' | 'contains' | 'known'

/** One line of a rule, as somebody sees it who writes no CEL. */
export type RuleRow =
  | RuleGroup
  /** Of the user, of the device, or when something happened first or last. */
  | {
      readonly is: 'fact'
      readonly of: 'user' | 'device' | 'first' | 'last'
      readonly name: string
      readonly how: FactHow
      /** Undefined where it is only asked whether it is known. */
      readonly value: RowValue | undefined
      readonly not: boolean
    }
  | {
      readonly is: 'times'
      readonly what: 'happened' | Told
      /** What happened; empty for what became of notifications. */
      readonly event: string
      readonly how: Comparison
      readonly times: number
      readonly within: string
    }
  | {
      readonly is: 'named'
      readonly what: 'follows' | 'reached' | 'segment'
      readonly name: string
      readonly not: boolean
    }
  | {
      readonly is: 'near'
      readonly place: string
      readonly longitude: number
      readonly latitude: number
      readonly metres: number
      readonly not: boolean
    }
  /** What no row can show. */
  | { readonly is: 'text'; readonly rule: string }

/** Rows of which all hold, or any; or not. */
export type RuleGroup = {
  readonly is: 'group'
  readonly how: 'all' | 'any'
  readonly not: boolean
  readonly rows: readonly RuleRow[]
}

export const noRows: RuleGroup = { is: 'group', how: 'all', not: false, rows: [] }

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

/** The rule that rows say. A row that lacks something says nothing yet. */
export function ruleOfRows(group: RuleGroup): string {
  const said = sayGroup({ ...group, not: false })
  return group.not && said !== '' ? `!(${said})` : said
}

/** Whether a row has all that it needs to say something. */
export function isWhole(row: RuleRow): boolean {
  switch (row.is) {
    case 'group':
      return row.rows.some(isWhole)
    case 'fact':
      return (
        row.name !== '' &&
        (row.how === 'known' ? row.value === undefined : row.value !== undefined && isGiven(row.value))
      )
    case 'times':
      return Number.isFinite(row.times) && isLength(row.within) && (row.what !== 'happened' || row.event !== '')
    case 'named':
      return row.name !== ''
    case 'near':
      return row.place !== '' && [row.longitude, row.latitude, row.metres].every(Number.isFinite)
    case 'text':
      return row.rule.trim() !== ''
    default:
      return row satisfies never
  }
}

const isLength = (duration: string): boolean => typeof durationOfText(duration) === 'number'

function isGiven(value: RowValue): boolean {
  switch (value.is) {
    case 'number':
      return Number.isFinite(value.number)
    case 'ago':
    case 'ahead':
      return isLength(value.duration)
    case 'instant':
      return typeof instantOfText(value.text) === 'number'
    case 'list':
      return value.of.length > 0
    default:
      return true
  }
}

const signs: Readonly<Record<string, Comparison>> = {
  '_==_': '==',
  '_!=_': '!=',
  '_<_': '<',
  '_<=_': '<=',
  '_>_': '>',
  '_>=_': '>=',
}
const mirrored: Readonly<Record<Comparison, Comparison>> = {
  '==': '==',
  '!=': '!=',
  '<': '>',
  '<=': '>=',
  '>': '<',
  '>=': '<=',
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
  const sign = signs[name]
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

function textOf({ exprKind }: Expr): string | undefined {
  return exprKind.case === 'constExpr' && exprKind.value.constantKind.case === 'stringValue'
    ? exprKind.value.constantKind.value
    : undefined
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

/** Without brackets around it. */
function sayGroup({ how, rows }: RuleGroup): string {
  const said = rows.filter(isWhole).map((row) => sayWithin(row, rows.filter(isWhole).length > 1))
  return said.join(how === 'all' ? ' && ' : ' || ')
}

/** @param hasOthers others stand beside it, so that what is made of several needs brackets */
function sayWithin(row: RuleRow, hasOthers: boolean): string {
  if (row.is === 'group') {
    const said = sayGroup(row)
    return row.not ? `!(${said})` : hasOthers && row.rows.filter(isWhole).length > 1 ? `(${said})` : said
  }
  return row.is === 'text' && hasOthers && bindsLoosely(row.rule) ? `(${row.rule.trim()})` : sayRow(row)
}

/** Whether it would fall apart beside an operator. What cannot be read is left to whoever reads the whole. */
function bindsLoosely(rule: string): boolean {
  try {
    const { exprKind } = readRule(rule).expr
    return exprKind.case === 'callExpr' && ['_&&_', '_||_', '_?_:_'].includes(exprKind.value.function)
  } catch (error) {
    if (error instanceof RuleRefused) return false
    throw error
  }
}

function sayRow(row: Exclude<RuleRow, RuleGroup>): string {
  switch (row.is) {
    case 'fact':
      return sayFact(row)
    case 'times': {
      const window = `duration(${quoted(row.within)})`
      const counted = row.what === 'happened' ? `count(${quoted(row.event)}, ${window})` : `${row.what}(${window})`
      return `${counted} ${row.how} ${row.times}`
    }
    case 'named':
      return `${row.not ? '!' : ''}${row.what}(${quoted(row.name)})`
    case 'near':
      return `${row.not ? '!' : ''}near(${member('user', row.place)}, ${row.longitude}, ${row.latitude}, ${row.metres})`
    case 'text':
      return row.rule.trim()
    default:
      return row satisfies never
  }
}

function sayFact({ of, name, how, value, not }: RuleRow & { readonly is: 'fact' }): string {
  const no = not ? '!' : ''
  if (value === undefined) return isPlainName(name) ? `${no}has(${of}.${name})` : `${no}(${quoted(name)} in ${of})`
  const fact = of === 'first' || of === 'last' ? `${of}(${quoted(name)})` : member(of, name)
  if (how === 'in') return not ? `!(${fact} in ${sayValue(value)})` : `${fact} in ${sayValue(value)}`
  if (how === 'startsWith' || how === 'endsWith' || how === 'contains') return `${no}${fact}.${how}(${sayValue(value)})`
  if (value.is === 'boolean' && how === '==') return value.yes ? fact : `!${fact}`
  return `${value.is === 'version' ? `version(${fact})` : fact} ${how} ${sayValue(value)}`
}

function sayValue(value: RowValue): string {
  switch (value.is) {
    case 'text':
      return quoted(value.text)
    case 'version':
      return `version(${quoted(value.text)})`
    case 'instant':
      return `timestamp(${quoted(value.text)})`
    case 'number':
      return String(value.number)
    case 'boolean':
      return String(value.yes)
    case 'ago':
    case 'ahead': {
      const sign = value.is === 'ago' ? '-' : '+'
      return durationOfText(value.duration) === 0 ? 'now' : `now ${sign} duration(${quoted(value.duration)})`
    }
    case 'list':
      return `[${value.of.map((one) => (typeof one === 'string' ? quoted(one) : String(one))).join(', ')}]`
    default:
      return value satisfies never
  }
}

/** A text as CEL writes it: its escapes are JSON’s. */
const quoted = (text: string): string => JSON.stringify(text)

/** Words that CEL keeps for itself (language definition, “Syntax”). */
const reserved = new Set(
  'as break const continue else false for function if import in let loop package namespace null return true var void while'.split(
    ' ',
  ),
)
const isPlainName = (name: string): boolean => /^[A-Za-z_]\w*$/.test(name) && !reserved.has(name)
const member = (of: 'user' | 'device', name: string): string =>
  isPlainName(name) ? `${of}.${name}` : `${of}[${quoted(name)}]`
