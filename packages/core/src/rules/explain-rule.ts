import { unparse } from '@bufbuild/cel'
import { type Expr, ParsedExprSchema, type SourceInfo } from '@bufbuild/cel-spec/cel/expr/syntax_pb.js'
import { create } from '@bufbuild/protobuf'
import { type Duration, type Timestamp, timestampDate } from '@bufbuild/protobuf/wkt'
import type { AttributeType } from '../people/attributes.ts'
import { checkRule } from './check-rule.ts'
import { type ClauseShape, clausesOf } from './clauses.ts'
import { type Facts, type Happened, programOf, type RuleProgram, termProgram, type Verdict } from './evaluate-rule.ts'
import { innerOf, type RuleType, type Term } from './term.ts'

/** One clause of a rule, what was found for it, and whether it holds. */
export type ExplainedPart = {
  /** With its sign: `!segment("crew")`. */
  readonly text: string
  readonly value: string | null
  readonly verdict: Verdict
  /** 0; of what is nested, such as the clauses of a segment that is named, one more than of the part before it that holds it. */
  readonly depth: number
}

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
  const known = new Map<string, KnownSegment>()
  for (const [name, text] of segments) {
    const { term } = checkRule(text, vocabulary)
    known.set(name, { term, program: programOf(term, programsOf(known)) })
  }
  const { term } = checkRule(rule, vocabulary)
  // The devices of one person share their occurrences.
  const parsed = new Map(all.map(({ happened }) => [happened, happened.map(parsedOccurrence)]))
  return all.map((facts) => explainRule(term, { ...facts, happened: parsed.get(facts.happened) ?? [] }, known))
}

/** A segment that a rule may name. */
export type KnownSegment = { readonly term: Term; readonly program: RuleProgram }

const programsOf = (known: ReadonlyMap<string, KnownSegment>): ReadonlyMap<string, RuleProgram> =>
  new Map([...known].map(([name, { program }]) => [name, program]))

const parsedOccurrence = ({ json, ...one }: StoredFacts['happened'][number]): Happened => ({
  ...one,
  data: json === null ? null : (JSON.parse(json) as unknown),
})

/** Clause by clause why somebody belongs, or does not; a segment that is named is opened. */
export function explainRule(
  term: Term,
  facts: Facts,
  segments: ReadonlyMap<string, KnownSegment> = new Map(),
): ExplainedRule {
  const programs = programsOf(segments)
  return {
    belongs: programOf(term, programs)(facts),
    parts: clausesOf(term, shapeWith(segments)).map(({ part, asks, depth }) => ({
      text: ruleText(part.expr),
      value: foundFor(asks, facts, programs),
      verdict: programOf(part, programs)(facts),
      depth,
    })),
  }
}

const shapeWith = (segments: ReadonlyMap<string, KnownSegment>): ClauseShape<Term> => ({
  connective: (term) => (term.is === 'and' || term.is === 'or' ? term.is : undefined),
  negated: (term) => (term.is === 'not' ? term.of : undefined),
  inner: (term) => {
    if (term.is === 'segment') return segments.has(term.name) ? [segments.get(term.name)!.term] : []
    return term.is === 'and' || term.is === 'or' ? term.of : term.is === 'choose' ? innerOf(term) : []
  },
})

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
