import type { Environment, Filling, Mode, Target, Urgency, Writing } from '@zbell/core'

/** Whether somebody stopped a notification, for a while or for good. */
export type Hold = 'none' | 'paused' | 'cancelled'

/** A notification as it is kept, with the number of its row. */
export type Notification = {
  readonly no: number
  readonly id: string
  readonly appNo: number
  readonly environment: Environment
  readonly state: 'expanding' | 'sending' | 'finished'
  readonly target: Target
  readonly name: string | null
  readonly template: string | null
  readonly content: Writing
  readonly filling: Filling
  readonly urgency: Urgency
  readonly mode: Mode
  readonly ttlSeconds: number
  readonly spreadSeconds: number
  readonly hold: Hold
  readonly withdrawnAt: Date | null
  /** Its deliveries were pruned to totals. */
  readonly prunedAt: Date | null
  readonly sentBy: string
  readonly expanded: number
  readonly createdAt: Date
  readonly expiresAt: Date
  readonly finishedAt: Date | null
  readonly changedAt: Date
  /** Grows with every change. */
  readonly version: number
}
