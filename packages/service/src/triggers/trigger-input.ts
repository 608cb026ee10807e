import { beginningOf } from '@zbell/core'
import type { ExpressionInput, SourceDefinition, TriggerDefinition } from '@zbell/core/triggers'
import { type ChangedRow, loggedFound } from '../sources/index.ts'

/** What came to a trigger: something that happened, or a row. */
export type TriggerInput =
  | { readonly is: 'event'; readonly event: Readonly<Record<string, unknown>> }
  | { readonly is: 'row'; readonly found: ChangedRow; readonly source: SourceDefinition }

export const givenOf = (came: TriggerInput): ExpressionInput =>
  came.is === 'event'
    ? { event: came.event, now: new Date() }
    : { row: came.found.row, before: came.found.before, gone: came.found.gone, now: new Date() }

/** The key of what came, for a trigger that has none of its own: what names an occurrence (CloudEvents 1.0 §3.1.1), or a row. */
export function keyOf(came: TriggerInput): string {
  if (came.is === 'row') return came.found.key
  const { source, id } = came.event as { source?: unknown; id?: unknown }
  return beginningOf(`${String(source ?? '')} ${String(id ?? '')}`.trim(), 200)
}

/** What is kept of it in the log. */
const maxLoggedChars = 4_000

export function logged(came: TriggerInput): Record<string, unknown> {
  const given = came.is === 'event' ? { event: came.event } : loggedFound(came.source, came.found)
  const { length } = JSON.stringify(given)
  if (length <= maxLoggedChars) return given
  const says = `${length.toLocaleString('en')} characters, too many to be kept`
  return came.is === 'event' ? { event: { ...came.event, data: says } } : { row: says, key: came.found.key }
}

/** Whether a trigger does without what was found late. @returns in words */
export function skippedAsLate(
  { late, lateAfterSeconds = 0 }: TriggerDefinition,
  lateSeconds: number,
): string | undefined {
  if (late !== 'skip' || lateSeconds === 0 || lateSeconds < lateAfterSeconds) return undefined
  return `it was found late: it was not polled for ${lateSeconds.toLocaleString('en')} seconds`
}
