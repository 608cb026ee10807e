import { unparse } from '@bufbuild/cel'
import { type Expr, ParsedExprSchema, type SourceInfo } from '@bufbuild/cel-spec/cel/expr/syntax_pb.js'
import { create } from '@bufbuild/protobuf'
import { type Duration, type Timestamp, timestampDate } from '@bufbuild/protobuf/wkt'
import type { AttributeType } from '../people/attributes.ts'
import { checkRule } from './check-rule.ts'
import { type Facts, type Happened, programOf, type RuleProgram, termProgram, type Verdict } from './evaluate-rule.ts'
import { innerOf, type RuleType, type Term } from './term.ts'

/** One clause of a rule, what was found for it, and whether it holds. */
export type ExplainedPart = { readonly text: string; readonly value: string | null; readonly verdict: Verdict }

export type ExplainedRule = { readonly belongs: Verdict; readonly parts: readonly ExplainedPart[] }

/** A rule and the definitions it refers to, as plain data that can be sent to another process. */
export type RuleSource = {
  readonly rule: string
  readonly attributes: readonly (readonly [name: string, type: AttributeType])[]
  /** Name and rule; each segment stands after those that it names. */
  readonly segments: readonly (readonly [name: string, rule: string])[]
}

/** Facts as they are stored: the data of occurrences is JSON text, which is parsed where the rule is evaluated. */
export type StoredFacts = Omit<Facts, 'happened'> & {
  readonly happened: readonly (Omit<Happened, 'data'> & { readonly json: string | null })[]
}

/**
 * Explains a rule for each of some devices.
 * @throws {RuleRefused}
 */
export function explainRuleFor(
  { rule, attributes, segments }: RuleSource,
  all: readonly StoredFacts[],
): ExplainedRule[] {
  const vocabulary = { attributes: new Map(attributes), segments: new Set(segments.map(([name]) => name)) }
  const programs = new Map<string, RuleProgram>()
  for (const [name, text] of segments) programs.set(name, programOf(checkRule(text, vocabulary).term, programs))
  const { term } = checkRule(rule, vocabulary)
  // The devices of one person share their occurrences.
  const parsed = new Map(all.map(({ happened }) => [happened, happened.map(parsedOccurrence)]))
  return all.map((facts) => explainRule(term, { ...facts, happened: parsed.get(facts.happened) ?? [] }, programs))
}

const parsedOccurrence = ({ json, ...one }: StoredFacts['happened'][number]): Happened => ({
  ...one,
  data: json === null ? null : (JSON.parse(json) as unknown),
})

/** Clause by clause why somebody belongs, or does not. */
export function explainRule(
  term: Term,
  facts: Facts,
  segments: ReadonlyMap<string, RuleProgram> = new Map(),
): ExplainedRule {
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
