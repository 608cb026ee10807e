import {
  type CheckedRule,
  checkRule,
  partsOf,
  programOf,
  type RuleFault,
  type RuleProgram,
  RuleRefused,
  type Term,
} from '@zbell/core/rules'
import { Problem } from '../problems/problem.ts'
import type { Scope } from '../store/apps/apps.ts'
import type { Reader } from '../store/database.ts'
import { listAttributes } from '../store/people/attributes.ts'
import { topicNumbers } from '../store/people/topics.ts'
import type { RuleContext } from '../store/rules/rule-condition.ts'
import { findSegment, listSegments, type SegmentRow } from '../store/segments/segments.ts'

/** A rule with all that it names, ready to be asked of the database and in memory. */
export type ReadyRule = {
  readonly term: Term
  readonly context: RuleContext
  readonly segments: ReadonlyMap<string, RuleProgram>
}

/** So many segments an app may have in an environment. */
export const mostSegments = 1_000

/** @throws {Problem} `unknown-segment` */
export async function needSegment(database: Reader, scope: Scope, name: string): Promise<SegmentRow> {
  const found = await findSegment(database, scope, name)
  if (!found) throw new Problem('unknown-segment', `There is no segment ${name.slice(0, 80)}.`)
  return found
}

/**
 * Checks a rule against what the app has declared, and reads the segments that it names.
 * @param as the segment that the rule is to become, which it may not name, neither directly nor through another
 * @throws {Problem} `rule-refused`, each fault at its line and column
 */
export async function readyRule(
  database: Reader,
  scope: Scope,
  text: string,
  nowMs: number,
  as?: string,
): Promise<ReadyRule> {
  const [attributes, kept] = await Promise.all([
    listAttributes(database, scope),
    listSegments(database, scope, mostSegments),
  ])
  const texts = new Map(kept.map(({ name, rule }) => [name, rule]))
  const vocabulary = {
    attributes: new Map(attributes.map(({ name, type }) => [name, type])),
    segments: new Set([...texts.keys(), ...(as === undefined ? [] : [as])]),
  }
  const checked = refusing(() => checkRule(text, vocabulary))
  const terms = new Map<string, Term>()
  const programs = new Map<string, RuleProgram>()
  /** Reads a segment after those that it names. @param way the segments that led here */
  const take = (name: string, way: readonly string[]): void => {
    if (way.includes(name)) throw inCircles([...way.slice(way.indexOf(name)), name])
    if (terms.has(name)) return
    const { term } = refusing(() => checkRule(texts.get(name) ?? '', vocabulary), name)
    for (const other of namedBy(term)) take(other, [...way, name])
    terms.set(name, term)
    programs.set(name, programOf(term, programs))
  }
  for (const name of namedBy(checked.term)) take(name, as === undefined ? [] : [as])
  const topics = new Set([checked.term, ...terms.values()].flatMap((term) => topicsOf(term)))
  const context: RuleContext = {
    appNo: scope.app.no,
    environment: scope.environment,
    nowMs,
    attributes: new Map(attributes.map(({ name, no }) => [name, no])),
    topics: await topicNumbers(database, scope, [...topics]),
    segments: terms,
  }
  return { term: checked.term, context, segments: programs }
}

/** Segments whose rules name this one. */
export async function usersOf(database: Reader, scope: Scope, name: string): Promise<string[]> {
  const kept = await listSegments(database, scope, mostSegments)
  const asked = new RegExp(`segment\\s*\\(\\s*["']${name.replaceAll('.', '\\.')}["']`)
  return kept.filter((one) => one.name !== name && asked.test(one.rule)).map((one) => one.name)
}

const namedBy = (term: Term): string[] => [
  ...new Set([...partsOf(term)].flatMap((one) => (one.is === 'segment' ? [one.name] : []))),
]
const topicsOf = (term: Term): string[] =>
  [...partsOf(term)].flatMap((one) => (one.is === 'follows' ? [one.topic] : []))

const inCircles = (way: readonly string[]): Problem =>
  refusal([{ line: 1, column: 1, says: `segments name one another in circles: ${way.join(' → ')}` }])

function refusal(faults: readonly RuleFault[], segment?: string): Problem {
  const [first] = faults
  const where = segment === undefined ? '' : `The segment ${segment}: `
  return new Problem(
    'rule-refused',
    `${where}Line ${first?.line}, column ${first?.column}: ${first?.says}.`,
    faults.map(({ line, column, says }) => ({ pointer: '/rule', detail: says, line, column })),
  )
}

function refusing(check: () => CheckedRule, segment?: string): CheckedRule {
  try {
    return check()
  } catch (error) {
    throw error instanceof RuleRefused ? refusal(error.faults, segment) : error
  }
}
