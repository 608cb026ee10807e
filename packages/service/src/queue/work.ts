import type { Environment } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'

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

export type ClaimRef = Pick<ClaimedWork, 'no' | 'fence'>

/** The work of one subject. */
export const ofSubject = (subjectNo: number): SQL => sql`subject_no = ${subjectNo}`

/** The work of an app. */
export const ofApp = ({ appNo, environment }: Pick<QueuedWork, 'appNo' | 'environment'>): SQL =>
  sql`app_no = ${appNo} and environment = ${environment}`
