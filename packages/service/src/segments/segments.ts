import { partsOf, type RuleFault, RuleRefused, ruleWarnings } from '@zbell/core/rules'
import { checkCount } from '../api/index.ts'
import { Problem } from '../base/index.ts'
import { type Database, type Reader, type Scope, whereOf } from '../database/index.ts'
import { listTopics } from '../people/index.ts'
import { maxSegments, type ReadyRule, readyRule, type Written } from './store/ready-rule.ts'
import { type SegmentRow, segmentNames, segmentStore } from './store/segments.ts'

/** @throws {Problem} `unknown-segment` */
export async function requireSegment(database: Reader, scope: Scope, name: string): Promise<SegmentRow> {
  const found = await segmentStore.find(database, whereOf(scope), name)
  if (!found) throw new Problem('unknown-segment', `There is no segment ${name.slice(0, 80)}.`)
  return found
}

/**
 * A rule that somebody wrote, checked as of now.
 * @param given.pointer where in the request it stands
 * @throws {Problem} `rule-refused`, each fault at its line and column
 */
export async function requireRule(
  database: Reader,
  scope: Scope,
  text: string,
  { pointer = '/rule', ...written }: Written & { readonly pointer?: string } = {},
): Promise<ReadyRule> {
  try {
    return await readyRule(database, whereOf(scope), text, Date.now(), written)
  } catch (error) {
    throw error instanceof RuleRefused ? refusal(error, pointer) : error
  }
}

/** So many topics are looked through for one that somebody may have meant. */
const maxTopics = 1_000

/** What in a rule can never be, each at its line and column. */
export async function warningsOf(
  database: Database,
  scope: Scope,
  { checked, context }: ReadyRule,
): Promise<RuleFault[]> {
  const there = [...context.topics.keys()]
  const isUnknown = [...partsOf(checked.term)].some((part) => part.is === 'follows' && !context.topics.has(part.topic))
  const others = isUnknown ? (await listTopics(database, scope, maxTopics)).map(({ name }) => name) : []
  return ruleWarnings(checked, [...there, ...others])
}

/** @throws {Problem} when one more would be too many */
export async function requireCapacity(database: Reader, scope: Scope, name: string): Promise<void> {
  const names = await segmentNames(database, whereOf(scope))
  checkCount('segment', names.filter((one) => one !== name).length, maxSegments)
}

function refusal({ faults, segment }: RuleRefused, pointer: string): Problem {
  const [first] = faults
  const where = segment === undefined ? '' : `The segment ${segment}: `
  const fault = ({ line, column, says }: RuleFault) => ({ pointer, detail: says, line, column })
  return new Problem(
    'rule-refused',
    `${where}Line ${first?.line}, column ${first?.column}: ${first?.says}.`,
    faults.map(fault),
  )
}
