import {
  blockSize,
  type Filling,
  type Mode,
  packBlock,
  type Target,
  type Urgency,
  urgencies,
  type Writing,
} from '@zbell/core'
import type { Scope } from '../apps/apps.ts'
import { uuidBuffer } from '../columns.ts'
import type { Database } from '../database.ts'
import { NameTaken } from '../errors.ts'
import type { Claim } from '../work/claim-work.ts'
import { isPersonal, targetDevices } from '../work/target-devices.ts'

export type NewNotification = {
  readonly id: string
  readonly target: Target
  readonly name: string | null
  /** `delay@3`, when it was made from a template. */
  readonly template: string | null
  readonly content: Writing
  readonly filling: Filling
  readonly spreadSeconds: number
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
  | {
      readonly is: 'created'
      /** A few people's devices are found at once; their block is this process's, to be sent without another look. */
      readonly claim: Claim | undefined
    }
  | {
      readonly is: 'repeated'
      readonly id: string
      readonly sameRequest: boolean
      readonly createdAt: Date
      readonly expiresAt: Date
    }

/** How an urgency is kept: greater overtakes. */
export const urgencyCode = (urgency: Urgency): number => urgencies.indexOf(urgency)

/**
 * Stores a notification together with the work of expanding it, in one transaction: what was answered is never lost. For a
 * few people the devices are found in the same breath.
 * @param leaseMs how long this process holds the block of a few people; 0 leaves it to whoever comes
 * @throws {NameTaken} when a live notification has this name
 */
export async function createNotification(
  database: Database,
  scope: Scope,
  given: NewNotification,
  leaseMs: number,
): Promise<Created> {
  const urgency = urgencyCode(given.urgency)
  const where = { appNo: scope.app.no, environment: scope.environment }
  try {
    const claim = await database.transact(async (tx) => {
      const few =
        isPersonal(given.target) && given.spreadSeconds === 0
          ? await targetDevices(tx, given.target, where, 0, blockSize + 1)
          : undefined
      const devices = few !== undefined && few.length <= blockSize ? few : undefined
      const { insertId } = await tx.change(
        `insert into notifications (id, app_no, environment, state, target, content, filling, template, name, live_name, tag, urgency,
           mode, ttl_seconds, spread_seconds, sent_by, idempotency_hash, request_hash, created_at, expires_at, changed_at,
           expanded, expanded_to, finished_at) values (?)`,
        [
          [
            uuidBuffer(given.id),
            scope.app.no,
            scope.environment,
            devices === undefined ? 'expanding' : devices.length === 0 ? 'finished' : 'sending',
            JSON.stringify(given.target),
            JSON.stringify(given.content),
            JSON.stringify(given.filling),
            given.template,
            given.name,
            devices?.length === 0 ? null : given.name,
            given.content.tag ?? null,
            urgency,
            given.mode,
            given.ttlSeconds,
            given.spreadSeconds,
            given.sentBy,
            given.idempotencyHash,
            given.requestHash,
            given.createdAt,
            given.expiresAt,
            given.createdAt,
            devices?.length ?? 0,
            devices?.at(-1) ?? 0,
            devices?.length === 0 ? given.createdAt : null,
          ],
        ],
      )
      if (devices?.length === 0) return undefined
      const packed = devices && Buffer.from(packBlock(devices))
      const held = devices !== undefined && leaseMs > 0
      const { insertId: workNo } = await tx.change(
        `insert into work (kind, app_no, notification_no, urgency, available_at, leased, fence, size, devices)
         values (?, ?, ?, ?, utc_timestamp(3) + interval ? microsecond, ?, ?, ?, ?)`,
        [
          devices === undefined ? 'expand' : 'send',
          scope.app.no,
          insertId,
          urgency,
          held ? leaseMs * 1_000 : 0,
          held,
          held ? 1 : 0,
          devices?.length ?? 0,
          packed ?? null,
        ],
      )
      if (!held) return undefined
      const whose = { no: workNo, fence: 1, appNo: scope.app.no, notificationNo: insertId, urgency }
      return { ...whose, kind: 'send' as const, failures: 0, cause: undefined, devices }
    })
    return { is: 'created', claim }
  } catch (error) {
    if (!(error instanceof NameTaken)) throw error
    const earlier = given.idempotencyHash && (await earlierAnswer(database, scope, given, given.idempotencyHash))
    if (!earlier) throw error
    return earlier
  }
}

async function earlierAnswer(
  database: Database,
  scope: Scope,
  given: NewNotification,
  key: Buffer,
): Promise<Created | undefined> {
  const [row] = await database.rows<{ id: Buffer; request_hash: Buffer; created_at: Date; expires_at: Date }>(
    'select id, request_hash, created_at, expires_at from notifications where app_no = ? and environment = ? and idempotency_hash = ?',
    [scope.app.no, scope.environment, key],
  )
  if (!row) return undefined
  const hex = row.id.toString('hex')
  return {
    is: 'repeated',
    id: `${hex.slice(0, 8)}-${hex.slice(8, 12)}-${hex.slice(12, 16)}-${hex.slice(16, 20)}-${hex.slice(20)}`,
    sameRequest: row.request_hash.equals(given.requestHash),
    createdAt: row.created_at,
    expiresAt: row.expires_at,
  }
}
