import { EventEmitter } from 'node:events'
import type { Ahead } from './prepare-ahead.ts'
import type { LeasedWork } from './work.ts'

/** A block that this process has leased while it was stored, with what was made ready for it meanwhile. */
export type Offer = { readonly work: LeasedWork; readonly ahead: Promise<Ahead | undefined> | undefined }

/**
 * What happens in this process that somebody else in it wants to know at once, rather than at the next poll. Nothing depends on it:
 * other processes find the same in the database.
 */
type Happenings = {
  /** Work was put into the queue, or may be claimed now. @param offer is the worker’s to send at once */
  work: [offer?: Offer]
  /** Something was paused, resumed, cancelled or stopped. */
  pause: []
  /** Events were put into the outbox. */
  outbox: []
  /** Something changed that people may be looking at. */
  change: []
}

/** Carries signals from whoever does something to whoever waits for it. */
export class Signals extends EventEmitter<Happenings> {}
