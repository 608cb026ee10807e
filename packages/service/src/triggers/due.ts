import type { Row, TriggerDefinition } from '@zbell/core/triggers'
import { type ChangedRow, foundOf, type KeptFound, type SourceRow } from '../sources/index.ts'
import type { Ring } from './firing.ts'
import type { DueFiring } from './store/firings.ts'
import type { TriggerInput } from './trigger-input.ts'

/** What a firing that waits keeps: what is to ring, and the row about which it is asked again. */
export type KeptRing = Ring & { readonly found?: KeptFound }

/** A firing that is due, read. */
export type ReadDue = {
  readonly appNo: number
  readonly firing: DueFiring
  readonly definition: TriggerDefinition
  readonly ring: Ring
  /** The row about which it fired. */
  readonly found: ChangedRow | undefined
  /** What it is asked about by now. */
  readonly came: TriggerInput
}

export function readDue(firing: DueFiring): ReadDue {
  const { found: kept, ...ring } = JSON.parse(firing.ring) as KeptRing
  const { event = {} } = JSON.parse(firing.given) as { event?: Readonly<Record<string, unknown>> }
  return {
    appNo: firing.appNo,
    firing,
    definition: JSON.parse(firing.definition) as TriggerDefinition,
    ring,
    found: kept && foundOf(kept),
    came: { is: 'event', event },
  }
}

/** A row as it was read again, or as it was when it is gone. */
export const cameByNow = (found: ChangedRow, row: Row | undefined, { definition }: SourceRow): TriggerInput => ({
  is: 'row',
  found: row ? { ...found, row, gone: false } : { ...found, gone: true },
  source: definition,
})
