import type { Environment } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'

/** Who does it: work of one pool is claimed by its own hands only, and its subjects are numbers of their own. */
export const pools = ['sending', 'telling'] as const
export type Pool = (typeof pools)[number]

/**
 * A piece of work as the queue knows it: whose it is, what kind, how urgent, and a body that only its kind can read.
 */
export type QueuedWork = {
  readonly kind: string
  readonly appNo: number
  readonly environment: Environment
  /** What it is about: the number of a row that its kind knows. Work of one app takes turns by it. */
  readonly subjectNo: number
  /** Greater overtakes. */
  readonly urgency: number
  /** How often it has failed, and what it waits for since. */
  readonly failures: number
  readonly cause: number
  /** How many parts it has, for those who watch the queue. */
  readonly size: number
  readonly body: Buffer | null
}

/** A piece of work that this process holds. Every write to it carries the fence: after another claim it counts no more. */
export type ClaimedWork = QueuedWork & {
  readonly no: number
  readonly fence: number
  /** The database's clock when it was claimed. */
  readonly claimedAt: Date
}

export type Held = Pick<ClaimedWork, 'no' | 'fence'>

/** An instant by the database's clock. @param ms may be a fraction */
export const afterNow = (ms: number): SQL => sql`utc_timestamp(3) + interval ${Math.round(ms * 1_000)} microsecond`

/** What is sent of a notification, of one and no other. */
export const ofNotification = (subjectNo: number): SQL => sql`pool = 'sending' and subject_no = ${subjectNo}`

/** What is sent in an app. */
export const ofApp = ({ appNo, environment }: Pick<QueuedWork, 'appNo' | 'environment'>): SQL =>
  sql`pool = 'sending' and app_no = ${appNo} and environment = ${environment}`
