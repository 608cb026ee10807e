import type { Content, Mode, Target, Urgency } from '@zbell/core'
import { urgencies } from '@zbell/core'
import type { Scope } from '../apps/apps.ts'
import { uuidBuffer } from '../columns.ts'
import type { Database } from '../database.ts'
import { NameTaken } from '../errors.ts'

export type NewNotification = {
  readonly id: string
  readonly target: Target
  readonly content: Content
  readonly urgency: Urgency
  readonly mode: Mode
  readonly ttlSeconds: number
  readonly sentBy: string
  readonly idempotencyHash: Buffer | null
  readonly requestHash: Buffer
  readonly createdAt: Date
  readonly expiresAt: Date
}

export type Created =
  | { readonly is: 'created' }
  | {
      readonly is: 'repeated'
      readonly id: string
      readonly sameRequest: boolean
      readonly createdAt: Date
      readonly expiresAt: Date
    }

/** How an urgency is kept: greater overtakes. */
export const urgencyCode = (urgency: Urgency): number => urgencies.indexOf(urgency)

/** Stores a notification together with the work of expanding it, in one transaction: what was answered is never lost. */
export async function createNotification(database: Database, scope: Scope, given: NewNotification): Promise<Created> {
  try {
    await database.transact(async (tx) => {
      const { insertId } = await tx.change(
        `insert into notifications (id, app_no, environment, state, target, content, urgency, mode, ttl_seconds, sent_by,
           idempotency_hash, request_hash, created_at, expires_at, changed_at) values (?)`,
        [
          [
            uuidBuffer(given.id),
            scope.app.no,
            scope.environment,
            'expanding',
            JSON.stringify(given.target),
            JSON.stringify(given.content),
            urgencyCode(given.urgency),
            given.mode,
            given.ttlSeconds,
            given.sentBy,
            given.idempotencyHash,
            given.requestHash,
            given.createdAt,
            given.expiresAt,
            given.createdAt,
          ],
        ],
      )
      await tx.change(
        "insert into work (kind, notification_no, urgency, available_at) values ('expand', ?, ?, utc_timestamp(3))",
        [insertId, urgencyCode(given.urgency)],
      )
    })
    return { is: 'created' }
  } catch (error) {
    if (!(error instanceof NameTaken) || !given.idempotencyHash) throw error
    return await earlierAnswer(database, scope, given, given.idempotencyHash)
  }
}

async function earlierAnswer(database: Database, scope: Scope, given: NewNotification, key: Buffer): Promise<Created> {
  const [row] = await database.rows<{ id: Buffer; request_hash: Buffer; created_at: Date; expires_at: Date }>(
    'select id, request_hash, created_at, expires_at from notifications where app_no = ? and environment = ? and idempotency_hash = ?',
    [scope.app.no, scope.environment, key],
  )
  if (!row) throw new Error('a notification with this idempotency key was there and is gone')
  const hex = row.id.toString('hex')
  return {
    is: 'repeated',
    id: `${hex.slice(0, 8)}-${hex.slice(8, 12)}-${hex.slice(12, 16)}-${hex.slice(16, 20)}-${hex.slice(20)}`,
    sameRequest: row.request_hash.equals(given.requestHash),
    createdAt: row.created_at,
    expiresAt: row.expires_at,
  }
}
