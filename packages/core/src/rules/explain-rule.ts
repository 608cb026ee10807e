import { unparse } from '@bufbuild/cel'
import { type Expr, ParsedExprSchema, type SourceInfo } from '@bufbuild/cel-spec/cel/expr/syntax_pb.js'
import { create } from '@bufbuild/protobuf'
import { type Duration, type Timestamp, timestampDate } from '@bufbuild/protobuf/wkt'
import { type Facts, programOf, type RuleProgram, termProgram, type Verdict } from './evaluate-rule.ts'
import { innerOf, type RuleType, type Term } from './term.ts'

/** One clause of a rule, what was found for it, and whether it holds. */
export type ExplainedPart = { readonly text: string; readonly value: string | null; readonly verdict: Verdict }

/** Clause by clause why somebody belongs, or does not. */
export function explainRule(
  term: Term,
  facts: Facts,
  segments: ReadonlyMap<string, RuleProgram> = new Map(),
): { readonly belongs: Verdict; readonly parts: readonly ExplainedPart[] } {
  return {
    belongs: programOf(term, segments)(facts),
    parts: clausesOf(term).map((clause) => ({
      text: ruleText(clause.expr),
      value: foundFor(clause, facts, segments),
      verdict: programOf(clause, segments)(facts),
    })),
  }
}

/** The parts that are put together by and, or and not. */
function clausesOf(term: Term): readonly Term[] {
  switch (term.is) {
    case 'and':
    case 'or':
      return term.of.flatMap(clausesOf)
    case 'not':
      return clausesOf(term.of)
    default:
      return [term]
  }
}

/** A part of a rule as text. @param sourceInfo of the whole rule, where it may have macros such as `exists` */
export const ruleText = (expr: Expr, sourceInfo?: SourceInfo): string =>
  unparse(sourceInfo ? create(ParsedExprSchema, { expr, sourceInfo }) : expr)

/** What was found for what a clause asks about: everything in it that the rule does not say itself. */
function foundFor(clause: Term, facts: Facts, segments: ReadonlyMap<string, RuleProgram>): string | null {
  const asked = clause.is === 'compare' || clause.is === 'among' || clause.is === 'text-test' ? innerOf(clause) : []
  const found = asked
    .filter((one) => one.is !== 'constant' && !(one.is === 'version' && one.of.is === 'constant'))
    .map((one) => {
      // A version is told as it stands, not as it is put in order.
      const told = one.is === 'version' ? one.of : one
      return sayValue(told.type, termProgram(told, segments)(facts))
    })
  return found.length === 0 ? null : found.join(', ')
}

function sayValue(type: RuleType, value: unknown): string {
  if (value === undefined) return 'not known'
  if (type === 'instant') return timestampDate((value as { readonly message: Timestamp }).message).toISOString()
  if (type === 'duration') return `${Number((value as { readonly message: Duration }).message.seconds)}s`
  return typeof value === 'string' ? JSON.stringify(value) : String(value)
}
