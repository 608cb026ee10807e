import { Expression } from '@zbell/core/triggers'
import type { CloudEvent } from '@zbell/core/webhooks'
import type { Evaluators, Share } from '../evaluation/evaluators.ts'

/** Of events those that a receiver wants to be told of. */
export type Wanted = (events: readonly CloudEvent[]) => Promise<readonly CloudEvent[]>

/** So many parts of an expression go through so many characters within a millisecond or two. */
const quickEffort = 200_000
const share: Share = { mostWaiting: 1_000, mostCharacters: 0, restMs: 0, tries: 3 }

/**
 * By the rule of a webhook, in CEL. What takes a moment is asked here, what could take longer in a process of its own.
 * Nothing is told meanwhile where that fails.
 * @returns what throws {@link EvaluationFailed}
 */
export function wantedBy(evaluators: Evaluators, appNo: number, rule: string | null): Wanted {
  if (rule === null) return async (events) => events
  const expression = new Expression(rule, ['event', 'now'])
  const holdsHere = (event: CloudEvent) => expression.holds({ event, now: new Date() }).holds
  return async (events) => {
    const chars = events.reduce((sum, event) => sum + JSON.stringify(event).length, 0)
    if (expression.effort * chars <= quickEffort) return events.filter(holdsHere)
    const holds = await evaluators.run(`webhooks of ${appNo}`, share, 'holds', { expression: rule, events })
    return events.filter((_, at) => holds[at])
  }
}
