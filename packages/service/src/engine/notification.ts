import type { Environment, Filling, Mode, Target, Urgency, Writing } from '@zbell/core'
import type { Channel } from '@zbell/core/policy'

/** Whether somebody stopped a notification, for a while or for good. */
export type Pause = 'none' | 'paused' | 'cancelled'

/** The same, or that its whole app is stopped. */
export type Halt = Pause | 'stopped'

/** A notification as it is kept, with the number of its row. */
export type Notification = {
  readonly no: number
  readonly id: string
  readonly appNo: number
  readonly environment: Environment
  /** `scheduled`: it waits for its hour. */
  readonly state: 'scheduled' | 'expanding' | 'sending' | 'finished'
  readonly target: Target
  readonly name: string | null
  readonly template: string | null
  readonly content: Writing
  readonly filling: Filling
  readonly urgency: Urgency
  readonly mode: Mode
  readonly ttlSeconds: number
  readonly spreadSeconds: number
  readonly pause: Pause
  /** Its app is stopped. */
  readonly stopped: boolean
  /** The kind that it is, as the app declares it now. */
  readonly channel: Channel | null
  readonly withdrawnAt: Date | null
  /** Its deliveries were pruned to totals. */
  readonly prunedAt: Date | null
  readonly sentBy: string
  readonly expanded: number
  readonly createdAt: Date
  readonly expiresAt: Date
  /** When it rings or rang; null for one that was sent at once. */
  readonly dueAt: Date | null
  /** So late it is still rung when nothing ran at its time; null for one that has none. */
  readonly graceSeconds: number | null
  /** It rings at this time by the clock of each reader, and what becomes of those for whom that is over. */
  readonly readerLocal: string | null
  readonly readerPast: 'skip' | 'now' | 'tomorrow' | null
  /** When it was seen that nothing had run at its time. */
  readonly missedAt: Date | null
  /** The schedule of which it is a run. */
  readonly schedule: string | null
  readonly finishedAt: Date | null
  readonly changedAt: Date
  /** Grows with every change. */
  readonly version: number
}

/** When it was, or is, to ring: its hour, or the moment at which it was sent. */
export const ringsAt = ({ dueAt, createdAt }: Pick<Notification, 'dueAt' | 'createdAt'>): Date => dueAt ?? createdAt
