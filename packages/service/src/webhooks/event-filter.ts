import { Expression } from '@zbell/core/triggers'
import type { CloudEvent } from '@zbell/core/webhooks'
import type { EvaluationLimits, EvaluatorPool } from '../evaluation/index.ts'

/**
 * The events that a receiver wants.
 * @throws {EvaluationFailed} @throws {EvaluationsBusy}
 */
export type EventFilter = (events: readonly CloudEvent[]) => Promise<readonly CloudEvent[]>

/** Parts of an expression times characters of the events: up to this, evaluation takes a millisecond or two. */
const maxInlineEffort = 200_000
const limits: EvaluationLimits = { maxWaiting: 1_000, maxCharacters: 1_000_000, backoffMs: 0, maxTries: 3 }

/** The `when` of a webhook, in CEL: evaluated inline where it is cheap, otherwise in an evaluator process. */
export function eventFilter(evaluators: EvaluatorPool, appNo: number, when: string | null): EventFilter {
  if (when === null) return async (events) => events
  const expression = new Expression(when, ['event', 'now'])
  return async (events) => {
    const characters = events.reduce((sum, event) => sum + JSON.stringify(event).length, 0)
    if (expression.effort * characters <= maxInlineEffort)
      return events.filter((event) => expression.holds({ event, now: new Date() }).holds)
    const input = { expression: when, events }
    const holds = await evaluators.run({ appNo, use: 'webhooks' }, limits, 'filter-events', input)
    return events.filter((_, at) => holds[at])
  }
}
