import { setImmediate as nextTurn } from 'node:timers/promises'
import {
  type CheckedRule,
  checkRule,
  partsOf,
  RuleRefused,
  type RuleSource,
  segmentCalls,
  type Term,
  type Vocabulary,
} from '@zbell/core/rules'
import { sql } from 'drizzle-orm'
import {
  attributes as attributesTable,
  type Reader,
  select,
  topics as topicsTable,
  type Where,
} from '../../database/index.ts'
import type { RuleContext } from './rule-to-sql.ts'
import { segmentNames, segmentStore } from './segments.ts'

/** A rule with all that it names, ready to be asked of the database. */
export type ReadyRule = {
  readonly term: Term
  readonly context: RuleContext
  /** The same, to be evaluated elsewhere. */
  readonly source: RuleSource
  /** As it was read. */
  readonly checked: CheckedRule
  /** Attributes that it reads, itself or by a segment, and that devices may set. */
  readonly setByDevices: readonly string[]
}

/** So many segments an app may have in an environment. */
export const maxSegments = 1_000

/** A rule and all segments that it stands on have so many parts at most, each counted as often as it is named. */
export const maxParts = 2_000

/** What is looked at as well where somebody writes a rule. */
export type Written = {
  /** The segment that it is to become, which it may not name, neither directly nor through another. */
  readonly as?: string | undefined
  /** For so many days deliveries are kept; 0 where they stay. */
  readonly keptDays?: number
  /** Whether what devices reported counts for nothing. */
  readonly withoutDevices?: boolean
}

/**
 * Checks a rule against what the app has declared, and reads the segments that it names, each in its newest version.
 * @throws {RuleRefused} each fault at its line and column
 */
export async function readyRule(
  database: Reader,
  where: Where,
  text: string,
  nowMs: number,
  { as, keptDays = 0, withoutDevices = false }: Written = {},
): Promise<ReadyRule> {
  const { appNo, environment } = where
  const [attributes, names] = await Promise.all([
    select(
      database,
      {
        no: attributesTable.no,
        name: attributesTable.name,
        type: attributesTable.type,
        devicesMay: attributesTable.devicesMay,
      },
      sql`from ${attributesTable} where ${attributesTable.appNo} = ${appNo} and ${attributesTable.environment} = ${environment}`,
    ),
    segmentNames(database, where),
  ])
  const vocabulary = {
    attributes: new Map(attributes.map(({ name, type }) => [name, type])),
    segments: new Set([...names, ...(as === undefined ? [] : [as])]),
    ...(keptDays === 0 ? {} : { keptMs: keptDays * 86_400_000 }),
  }
  const checked = checkRule(text, vocabulary)
  const { term } = checked
  const segments = await readSegments(database, where, { term, vocabulary, as })
  const parts = [term, ...segments.terms.values()].flatMap((one) => [...partsOf(one)])
  const topics = parts.flatMap((part) => (part.is === 'follows' ? [part.topic] : []))
  const read = new Set(
    parts.flatMap((part) => (part.is === 'attribute' || part.is === 'has-attribute' ? [part.name] : [])),
  )
  const context = {
    appNo,
    environment,
    nowMs,
    attributes: new Map(attributes.map(({ name, no }) => [name, no])),
    topics: await topicNumbers(database, where, [...new Set(topics)]),
    segments: segments.terms,
    withoutDevices,
  }
  const setByDevices = attributes.flatMap(({ name, devicesMay }) => (devicesMay && read.has(name) ? [name] : []))
  const source = {
    rule: text,
    attributes: attributes.flatMap(({ name, type }) => (read.has(name) ? [[name, type] as const] : [])),
    segments: [...segments.rules],
  }
  return { term, checked, context, source, setByDevices }
}

type Read = {
  readonly term: Term
  readonly vocabulary: Vocabulary
  readonly as: string | undefined
}

/** The segments that a rule names, and those that they name: each is read after what it stands on, and only those are. */
async function readSegments(
  database: Reader,
  where: Where,
  { term, vocabulary, as }: Read,
): Promise<{ readonly terms: ReadonlyMap<string, Term>; readonly rules: ReadonlyMap<string, string> }> {
  const terms = new Map<string, Term>()
  const rules = new Map<string, string>()
  const sizes = new Map<string, number>()
  const sizeOf = (one: Term): number => {
    let size = 0
    for (const part of partsOf(one)) size += 1 + (part.is === 'segment' ? (sizes.get(part.name) ?? 0) : 0)
    // A few segments that name one another often enough would be more than anything can be asked.
    if (size > maxParts) throw tooLarge
    return size
  }
  const take = async (name: string, way: readonly string[]): Promise<void> => {
    if (way.includes(name)) throw inCircles([...way.slice(way.indexOf(name)), name])
    if (terms.has(name)) return
    const kept = await segmentStore.find(database, where, name)
    if (kept === undefined) return
    const own = checkSegment(name, kept.rule, vocabulary)
    for (const other of segmentsIn(own.term)) await take(other, [...way, name])
    sizes.set(name, sizeOf(own.term))
    terms.set(name, own.term)
    rules.set(name, kept.rule)
  }
  for (const name of segmentsIn(term)) await take(name, as === undefined ? [] : [as])
  sizeOf(term)
  return { terms, rules }
}

const tooLarge = new RuleRefused([
  { line: 1, column: 1, says: `with the segments that it names, the rule has more than ${maxParts} parts` },
])

/** The segments whose rules name one. Each rule is read; the process goes on with other work between two. */
export async function segmentsNaming(database: Reader, where: Where, name: string): Promise<string[]> {
  const found: string[] = []
  for (const one of await segmentStore.list(database, where, maxSegments)) {
    if (one.name === name || !one.rule.includes('segment')) continue
    if (segmentCalls(one.rule).includes(name)) found.push(one.name)
    await nextTurn()
  }
  return found
}

function checkSegment(name: string, text: string, vocabulary: Vocabulary): CheckedRule {
  try {
    return checkRule(text, vocabulary)
  } catch (error) {
    throw error instanceof RuleRefused ? new RuleRefused(error.faults, name) : error
  }
}

const segmentsIn = (term: Term): string[] => [
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
  const rows = await select(
    database,
    { no: topicsTable.no, name: topicsTable.name },
    sql`from ${topicsTable} where ${topicsTable.appNo} = ${appNo} and ${topicsTable.environment} = ${environment}
      and ${topicsTable.name} in ${names}`,
  )
  return new Map(rows.map(({ no, name }) => [name, no]))
}
