import type { TriggerDefinition } from '@zbell/core/triggers'
import { type Database, DatabaseUnavailable, type Scope } from '../database/index.ts'
import type { Signals } from '../engine/index.ts'
import type { SourceQueries } from '../sources/index.ts'
import { buildFiring, type FiringBuild, type Ring } from './firing.ts'
import type { FiringState } from './store/firings.ts'
import type { TriggerEvaluator } from './trigger-evaluator.ts'

/** How many events, or due firings, are read at a time. */
export const batchSize = 200

export const internalError = 'an internal error, which the service’s log has'

/** Observes what becomes of firings. */
export type FiringObserver = {
  fired(state: FiringState): void
  /** An internal error. */
  failed(trigger: string, error: unknown): void
}

/** What firing needs, for what waits and for what is due. */
export type FiringParts = {
  readonly database: Database
  readonly signals: Signals
  /** For rows that are asked for again. */
  readonly queries: SourceQueries
  readonly evaluator: TriggerEvaluator
  readonly keptDays: number
  readonly observer: FiringObserver
}

/** What was stored, and of how many events; others may have been taken by somebody else. */
export type FiringResult = { readonly events: number; readonly states: readonly FiringState[] }

/** Any error but that of an unavailable database becomes the firing’s own fault, so that it holds up no other. */
export async function buildOrFault(
  { database, keptDays, observer }: FiringParts,
  scope: Scope,
  name: string,
  definition: TriggerDefinition,
  ring: Ring,
): Promise<FiringBuild> {
  try {
    return await buildFiring({ database, keptDays }, scope, name, definition, ring)
  } catch (error) {
    if (error instanceof DatabaseUnavailable) throw error
    observer.failed(name, error)
    return { is: 'fault', says: internalError }
  }
}

/** @returns of how many events it was */
export function report({ signals, observer }: FiringParts, { events, states }: FiringResult): number {
  if (states.includes('rung')) signals.emit('work')
  for (const state of states) observer.fired(state)
  return events
}

/** Reports the error of a detached piece of work, which is done again at the next poll. */
export const reportTo =
  ({ observer }: FiringParts) =>
  (error: unknown): void => {
    if (!(error instanceof DatabaseUnavailable)) observer.failed('of an app', error)
  }

export const stateOf = (
  made: FiringBuild,
): { state: FiringState; says: string | undefined; notification: string | undefined } =>
  made.is === 'built'
    ? { state: 'rung', says: undefined, notification: made.id }
    : made.is === 'nobody'
      ? { state: 'nobody', says: 'nobody in its target has a device', notification: undefined }
      : { state: 'fault', says: made.says, notification: undefined }
