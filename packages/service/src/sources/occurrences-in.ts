import { faultsIn, occurrence } from '@zbell/contract'
import { isOurs } from '@zbell/core/webhooks'
import type { EvaluatorPool } from '../evaluation/index.ts'
import { evaluateJsonata } from './expressions.ts'
import { SourceFault } from './fault.ts'

/** So many occurrences a body may make. */
const maxMade = 100

/**
 * What an incoming source's expression makes of a body.
 * @param ownId names those that have no id of their own
 * @throws {SourceFault} where it makes nothing that can be taken
 * @throws {EvaluationsBusy}
 */
export async function occurrencesIn(
  evaluators: EvaluatorPool,
  source: { readonly appNo: number; readonly name: string },
  { expression, text, ownId }: { readonly expression: string; readonly text: string; readonly ownId: string },
) {
  const evaluated = await evaluateJsonata(evaluators, source, expression, text)
  const made = evaluated?.value ?? null
  const all = made === null ? [] : Array.isArray(made) ? made : [made]
  if (all.length > maxMade) throw new SourceFault(`makes ${all.length} occurrences; ${maxMade} at most`)
  return all.map((one, at) => occurrenceOf(one, at, source.name, ownId))
}

/** @throws {SourceFault} */
function occurrenceOf(one: unknown, at: number, source: string, own: string) {
  if (typeof one !== 'object' || one === null || Array.isArray(one))
    throw new SourceFault(`makes ${JSON.stringify(one).slice(0, 60)} where an object with a type is meant`)
  const ofItself = `urn:zbell:source:${source}`
  const whole = { id: at === 0 ? own : `${own}-${at}`, source: ofItself, ...one }
  const result = occurrence.safeParse(whole)
  if (!result.success) {
    const [first] = faultsIn(result.error, whole)
    throw new SourceFault(`makes an occurrence whose ${first?.pointer ?? ''} ${first?.detail ?? 'is wrong'}`)
  }
  const { id, source: from, type, time, subject, data } = result.data
  if (isOurs(from) && from !== ofItself)
    throw new SourceFault(`makes an occurrence whose source ${from.slice(0, 80)} is not its own`)
  return { id, source: from, type, at: time === undefined ? new Date() : new Date(time), data, user: subject }
}
