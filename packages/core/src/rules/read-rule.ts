import { parse } from '@bufbuild/cel'
import type { Expr, SourceInfo } from '@bufbuild/cel-spec/cel/expr/syntax_pb.js'
import { placeIn, type RuleFault, RuleRefused } from './fault.ts'

/** What a rule may be made of at most; whatever is longer or deeper is refused before anything reads it. */
export const ruleLimits = Object.freeze({
  chars: 4_000,
  nodes: 200,
  levels: 20,
  list: 100,
  tokens: 1_200,
  calculations: 4,
})

/** Roughly: what a reader of CEL takes one after the other. */
const token = /\w+|[^\w\s]/g

/** A rule as it was read, not yet checked. */
export type ReadRule = {
  readonly text: string
  readonly expr: Expr
  /** Where each node stands, in UTF-16 units from 0, by its id. */
  readonly positions: Readonly<Record<string, number>>
  /** The macros as they were written, which `expr` holds expanded. */
  readonly sourceInfo: SourceInfo | undefined
}

/**
 * Reads a rule in CEL. Its size is looked at before it is parsed: nested brackets cost a parser more than their number.
 * @throws {RuleRefused}
 */
export function readRule(text: string): ReadRule {
  const refuse = (offset: number, says: string): never => {
    throw new RuleRefused([{ ...placeIn(text, offset), says }])
  }
  if (text.trim() === '') refuse(0, 'a rule wants a condition, such as user.pass == "season"')
  if (text.length > ruleLimits.chars)
    refuse(ruleLimits.chars, `has more than ${ruleLimits.chars.toLocaleString('en')} characters`)
  if ((text.match(token)?.length ?? 0) > ruleLimits.tokens)
    refuse(0, `has more than ${ruleLimits.tokens.toLocaleString('en')} words and signs`)
  const deep = tooDeepAt(text)
  if (deep !== undefined) refuse(deep, `has brackets in brackets more than ${ruleLimits.levels} deep`)
  try {
    const { expr, sourceInfo } = parse(text)
    return { text, expr: expr!, positions: sourceInfo?.positions ?? {}, sourceInfo }
  } catch (error) {
    throw new RuleRefused([faultOf(text, error)])
  }
}

/** Where brackets lie too deep in one another. Those within texts count as well: it is only a bound. */
function tooDeepAt(text: string): number | undefined {
  let depth = 0
  for (let i = 0; i < text.length; i++) {
    if ('([{'.includes(text[i]!) && ++depth > ruleLimits.levels) return i
    if (')]}'.includes(text[i]!)) depth--
  }
  return undefined
}

type SyntaxError = {
  readonly location?: { readonly start: { readonly offset: number } }
  readonly expected?: readonly { readonly type: string; readonly value?: string }[]
  readonly found?: string | null
}

/** What is asked for where a value could begin says nothing but that. */
const beginnings = ['(', '[', '!']

function faultOf(text: string, error: unknown): RuleFault {
  if (error instanceof RangeError) return { line: 1, column: 1, says: 'is nested too deep to be read' }
  const { location, expected = [], found } = error as SyntaxError
  const offset = location?.start.offset ?? 0
  const place = placeIn(text, offset)
  const rest = text.slice(offset)
  if (/^=(?!=)/.test(rest)) return { ...place, says: '“=” sets a value; whether two are equal is asked by ==' }
  if (/^(?:&(?!&)|\|(?!\|))/.test(rest))
    return { ...place, says: `“${rest[0]}” is written twice: ${rest[0]}${rest[0]}` }
  // The reader gives up before an operator whose right side it cannot read; what is wrong stands behind it.
  const operator = /^(?:==|!=|<=|>=|&&|\|\||[-+*/%<>?:]|in\b)\s*/.exec(rest)?.[0]
  if (operator !== undefined)
    return { ...placeIn(text, offset + operator.length), says: `after ${operator.trim()} a value is wanted` }
  const wanted = new Set(expected.flatMap(({ value }) => (value === undefined ? [] : [value])))
  const got = found ? `“${found}” stands` : 'the rule ends'
  const says = beginnings.every((one) => wanted.has(one))
    ? `${got} where a value is wanted`
    : wanted.has(')') || wanted.has(']')
      ? `${got} where a bracket has to be closed, or an operator such as && is missing`
      : `${got} where the rule should go on with an operator such as == or &&, or end`
  return { ...place, says }
}

/** The segments that a rule names, found without knowing anything else that it names. @throws {RuleRefused} */
export function segmentCalls(text: string): string[] {
  const found = new Set<string>()
  const walk = ({ exprKind }: Expr): void => {
    if (exprKind.case === 'callExpr') {
      const { function: name, target, args } = exprKind.value
      const given = args[0]?.exprKind
      const constant = given?.case === 'constExpr' ? given.value.constantKind : undefined
      if (name === 'segment' && constant?.case === 'stringValue') found.add(constant.value)
      for (const one of target ? [target, ...args] : args) walk(one)
    }
    if (exprKind.case === 'selectExpr' && exprKind.value.operand) walk(exprKind.value.operand)
    if (exprKind.case === 'listExpr') exprKind.value.elements.forEach(walk)
  }
  walk(readRule(text).expr)
  return [...found]
}
