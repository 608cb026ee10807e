import { type Given, type SourceDefinition, Trigger, type TriggerDefinition } from '@zbell/core/triggers'
import { LRUCache } from 'lru-cache'
import { type FoundRow, loggedFound } from '../sources/found.ts'
import type { TriggerRow } from '../store/triggers/triggers.ts'

/** What came to a trigger: something that happened, or a row. */
export type Came =
  | { readonly is: 'event'; readonly event: Readonly<Record<string, unknown>> }
  | { readonly is: 'row'; readonly found: FoundRow; readonly source: SourceDefinition }

export const givenOf = (came: Came): Given =>
  came.is === 'event'
    ? { event: came.event, now: new Date() }
    : { row: came.found.row, before: came.found.before, gone: came.found.gone, now: new Date() }

/** The key of what came, for a trigger that has none of its own: what names an occurrence (CloudEvents 1.0 §3.1.1), or a row. */
export function keyOf(came: Came): string {
  if (came.is === 'row') return came.found.key
  const { source, id } = came.event as { source?: unknown; id?: unknown }
  return `${String(source ?? '')} ${String(id ?? '')}`.trim().slice(0, 200)
}

/** What is kept of it in the log. */
const mostLoggedChars = 4_000

export function logged(came: Came): Record<string, unknown> {
  const given = came.is === 'event' ? { event: came.event } : loggedFound(came.source, came.found)
  const { length } = JSON.stringify(given)
  if (length <= mostLoggedChars) return given
  const says = `${length.toLocaleString('en')} characters, too many to be kept`
  return came.is === 'event' ? { event: { ...came.event, data: says } } : { row: says, key: came.found.key }
}

/** Triggers that were read before: to read one takes longer than to ask it. */
const read = new LRUCache<string, Trigger>({ max: 1_000 })

/** @throws {RuleRefused} for one that was good when it was saved, and is none by now */
export function readTrigger({ no, version, definition }: Pick<TriggerRow, 'no' | 'version' | 'definition'>): Trigger {
  const name = `${no} ${version}`
  const known = read.get(name)
  if (known) return known
  const fresh = new Trigger(definition)
  read.set(name, fresh)
  return fresh
}

/** Whether a trigger does without what was found late. @returns in words */
export function skippedAsLate(
  { late, lateAfterSeconds = 0 }: TriggerDefinition,
  lateSeconds: number,
): string | undefined {
  if (late !== 'skip' || lateSeconds === 0 || lateSeconds < lateAfterSeconds) return undefined
  return `it was found late: nobody had looked for ${lateSeconds.toLocaleString('en')} seconds`
}
