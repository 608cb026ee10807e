import type { AttributeType } from '@zbell/core'
import {
  type CheckedRule,
  checkRule,
  partsOf,
  programOf,
  type RuleProgram,
  RuleRefused,
  type Term,
  type Vocabulary,
} from '@zbell/core/rules'
import { sql } from 'drizzle-orm'
import type { Where } from '../apps/where.ts'
import type { Reader } from '../database.ts'
import { listSegments } from '../segments/segments.ts'
import type { RuleContext } from './rule-condition.ts'

/** A rule with all that it names, ready to be asked of the database and in memory. */
export type ReadyRule = {
  readonly term: Term
  readonly context: RuleContext
  readonly segments: ReadonlyMap<string, RuleProgram>
}

/** So many segments an app may have in an environment. */
export const mostSegments = 1_000

/**
 * Checks a rule against what the app has declared, and reads the segments that it names, each in its newest version.
 * @param as the segment that the rule is to become, which it may not name, neither directly nor through another
 * @throws {RuleRefused} each fault at its line and column
 */
export async function readyRule(
  database: Reader,
  where: Where,
  text: string,
  nowMs: number,
  as?: string,
): Promise<ReadyRule> {
  const { appNo, environment } = where
  const [attributes, kept] = await Promise.all([
    database.rows<{ no: number; name: string; type: AttributeType }>(
      sql`select no, name, type from attributes where app_no = ${appNo} and environment = ${environment}`,
    ),
    listSegments(database, where, mostSegments),
  ])
  const texts = new Map(kept.map(({ name, rule }) => [name, rule]))
  const vocabulary = {
    attributes: new Map(attributes.map(({ name, type }) => [name, type])),
    segments: new Set([...texts.keys(), ...(as === undefined ? [] : [as])]),
  }
  const { term } = checkRule(text, vocabulary)
  const { terms, programs } = readSegments(term, texts, vocabulary, as)
  const topics = [term, ...terms.values()].flatMap((one) =>
    [...partsOf(one)].flatMap((part) => (part.is === 'follows' ? [part.topic] : [])),
  )
  const context = {
    appNo,
    environment,
    nowMs,
    attributes: new Map(attributes.map(({ name, no }) => [name, no])),
    topics: await topicNumbers(database, where, [...new Set(topics)]),
    segments: terms,
  }
  return { term, context, segments: programs }
}

/** The segments that a rule names, and those that they name: each is read after what it stands on. */
function readSegments(
  term: Term,
  texts: ReadonlyMap<string, string>,
  vocabulary: Vocabulary,
  as: string | undefined,
): { readonly terms: ReadonlyMap<string, Term>; readonly programs: ReadonlyMap<string, RuleProgram> } {
  const terms = new Map<string, Term>()
  const programs = new Map<string, RuleProgram>()
  const take = (name: string, way: readonly string[]): void => {
    if (way.includes(name)) throw inCircles([...way.slice(way.indexOf(name)), name])
    if (terms.has(name)) return
    const own = checkSegment(name, texts.get(name) ?? '', vocabulary)
    for (const other of namedBy(own.term)) take(other, [...way, name])
    terms.set(name, own.term)
    programs.set(name, programOf(own.term, programs))
  }
  for (const name of namedBy(term)) take(name, as === undefined ? [] : [as])
  return { terms, programs }
}

function checkSegment(name: string, text: string, vocabulary: Vocabulary): CheckedRule {
  try {
    return checkRule(text, vocabulary)
  } catch (error) {
    throw error instanceof RuleRefused ? new RuleRefused(error.faults, name) : error
  }
}

const namedBy = (term: Term): string[] => [
  ...new Set([...partsOf(term)].flatMap((one) => (one.is === 'segment' ? [one.name] : []))),
]

const inCircles = (way: readonly string[]): RuleRefused =>
  new RuleRefused([{ line: 1, column: 1, says: `segments name one another in circles: ${way.join(' → ')}` }])

/** The numbers of the topics that are there. */
async function topicNumbers(
  database: Reader,
  { appNo, environment }: Where,
  names: readonly string[],
): Promise<Map<string, number>> {
  if (names.length === 0) return new Map()
  const rows = await database.rows<{ no: number; name: string }>(
    sql`select no, name from topics where app_no = ${appNo} and environment = ${environment} and name in ${names}`,
  )
  return new Map(rows.map(({ no, name }) => [name, no]))
}
