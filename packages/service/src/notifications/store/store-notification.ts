import {
  type Filling,
  type Mode,
  packBlock,
  type Target,
  type Urgency,
  urgencies,
  type Writing,
  wellFormedJson,
} from '@zbell/core'
import type { Past } from '@zbell/core/calendar'
import type { Channel } from '@zbell/core/policy'
import { type SQL, sql } from 'drizzle-orm'
import {
  commas,
  type Database,
  isDuplicate,
  notifications,
  type Scope,
  select,
  uuidBuffer,
} from '../../database/index.ts'
import { publishFinished } from '../../deliveries/index.ts'
import { type BlockDevice, type LeasedWork, type Notification, pauseCodes } from '../../engine/index.ts'
import { isStopped } from '../../policy/index.ts'
import { enqueueStatement, release } from '../../queue/index.ts'

/** When a notification rings that is not sent at once. */
export type Due = {
  readonly at: Date
  readonly graceSeconds: number
  /** By the clock of each reader; its lifetime ends when that of the last has. */
  readonly readers?: { readonly local: string; readonly past: Past; readonly endsAt: Date } | undefined
}

export type NewNotification = {
  readonly id: string
  readonly target: Target
  readonly name: string | null
  /** `delay@3`, when it was made from a template. */
  readonly template: string | null
  readonly content: Writing
  readonly filling: Filling
  readonly spreadSeconds: number
  readonly paused: boolean
  readonly urgency: Urgency
  readonly mode: Mode
  readonly ttlSeconds: number
  readonly sentBy: string
  readonly idempotencyHash: Buffer | null
  readonly requestHash: Buffer
  /** It rings then and not at once, and its lifetime counts from then. */
  readonly due?: Due | undefined
  /** The schedule of which it is a run. */
  readonly schedule?: string | undefined
  /** The kind that it is. */
  readonly channel?: Channel | null | undefined
}

/** When it was stored, when it rings if not at once, and when its lifetime ends, by the database's clock. */
export type Lifetime = { readonly createdAt: Date; readonly dueAt: Date | null; readonly expiresAt: Date }

export type Created =
  | {
      readonly is: 'created'
      /** A few people's devices are found at once; their block is leased by this process, which sends it without a lookup. */
      readonly leased: LeasedWork | undefined
      readonly lifetime: Lifetime
    }
  | {
      readonly is: 'repeated'
      readonly id: string
      readonly sameRequest: boolean
      readonly lifetime: Lifetime
    }

/** How an urgency is kept: greater overtakes. */
export const urgencyCode = (urgency: Urgency): number => urgencies.indexOf(urgency)

/** A notification that is ready to be stored; nothing about it is left to decide. */
export type BuiltNotification = {
  readonly given: NewNotification
  /** As it will be, but for its number; its times are close enough for making ready. */
  readonly about: Omit<Notification, 'no'>
  /** Its devices, where they are few and known already. */
  readonly devices: readonly BlockDevice[] | undefined
  /** For so long this process leases its block; 0 leaves it to any. */
  readonly leaseMs: number
  /** What stores it, with its first work. Its number is then in `@notification`. */
  readonly statements: readonly SQL[]
}

/** How a notification begins. */
export type Beginning = {
  /** Its devices, where they are known already. */
  readonly devices: readonly number[] | undefined
  readonly state: Notification['state']
  /** For so long this process leases their block; 0 leaves it to any. */
  readonly leaseMs: number
}

/** What stores a notification; its number is then in `@notification`. All times are the database's. */
export function notificationStatements(
  scope: Scope,
  given: NewNotification,
  { devices, state }: Pick<Beginning, 'devices' | 'state'>,
): SQL[] {
  const row = [
    uuidBuffer(given.id),
    scope.app.no,
    scope.environment,
    state,
    wellFormedJson(given.target),
    wellFormedJson(given.content),
    wellFormedJson(given.filling),
    given.template,
    given.name,
    // A run bears its schedule’s name, of which only the schedule is to be found and stopped.
    state === 'finished' || given.schedule !== undefined ? null : given.name,
    given.content.tag ?? null,
    urgencyCode(given.urgency),
    given.mode,
    given.ttlSeconds,
    given.spreadSeconds,
    given.paused ? pauseCodes.paused : pauseCodes.none,
    given.sentBy,
    given.idempotencyHash,
    given.requestHash,
    devices?.length ?? 0,
    devices?.at(-1) ?? 0,
    given.due?.at ?? null,
    given.due?.graceSeconds ?? null,
    given.due?.readers?.local ?? null,
    given.due?.readers?.past ?? null,
    given.schedule ?? null,
    given.channel?.no ?? null,
  ]
  const begins = given.due ? sql`${given.due.readers?.endsAt ?? given.due.at}` : sql`utc_timestamp(3)`
  return [
    sql`insert into notifications (id, app_no, environment, state, target, content, filling, template, name, live_name, tag, urgency, mode, ttl_seconds, spread_seconds, pause, sent_by, idempotency_hash, request_hash, expanded, expanded_to, due_at, grace_seconds, reader_local, reader_past, schedule, channel_no, created_at, changed_at, expires_at, finished_at)
        values (${commas(row)}, utc_timestamp(3),
        utc_timestamp(3), ${begins} + interval ${given.ttlSeconds} second, ${state === 'finished' ? sql`utc_timestamp(3)` : null})`,
    sql`set @notification = last_insert_id()`,
  ]
}

/** What puts the first work of a notification into the queue, after {@link notificationStatements}. */
export const firstWorkStatement = (
  { app, environment }: Scope,
  given: NewNotification,
  { devices, leaseMs }: Beginning,
): SQL =>
  enqueueStatement(sql`@notification`, [
    {
      kind: devices === undefined ? 'expand' : 'send',
      appNo: app.no,
      environment,
      urgency: urgencyCode(given.urgency),
      suspended: given.paused,
      ...(given.due ? { due: given.due.at } : {}),
      heldMs: leaseMs,
      size: devices?.length ?? 0,
      body: devices && devices.length > 0 ? Buffer.from(packBlock(devices)) : null,
    },
  ])

type StoredRow = Lifetime & {
  readonly notificationNo: number
  readonly workNo: number
  readonly now: Date
  readonly stopped: number
}

/**
 * Stores a notification that was built, in one transaction with its first work: what was answered is never lost.
 * @throws {DuplicateKey} `one_live_name` when a live notification has this name
 */
export async function storeNotification(database: Database, scope: Scope, built: BuiltNotification): Promise<Created> {
  const { given, about, devices, leaseMs, statements } = built
  const stored = sql`select no as notificationNo, last_insert_id() as workNo, created_at as createdAt, due_at as dueAt,
      expires_at as expiresAt, utc_timestamp(3) as now, ${isStopped(sql`n`)} as stopped
    from notifications n where no = @notification`
  try {
    // One that has no devices ends as it begins, and that is published in the same transaction.
    const [row] =
      about.state === 'finished'
        ? await database.transact(async (tx) => {
            for (const statement of statements) await tx.change(statement)
            const rows = await tx.rows<StoredRow>(stored)
            await publishFinished(tx, rows[0]!.notificationNo)
            return rows
          })
        : await database.compound<StoredRow>(statements, stored)
    if (!row) throw new Error('a notification that was just stored is not there')
    const { notificationNo, workNo, now, stopped, ...lifetime } = row
    if (leaseMs === 0 || !devices) return { is: 'created', leased: undefined, lifetime }
    // Its app is stopped: whoever claims it parks it.
    if (stopped === 1) {
      await release(database, { no: workNo, fence: 1 }, { afterMs: 0 })
      return { is: 'created', leased: undefined, lifetime }
    }
    const claim = {
      no: workNo,
      fence: 1,
      kind: 'send' as const,
      appNo: scope.app.no,
      environment: scope.environment,
      notificationNo,
      urgency: urgencyCode(given.urgency),
      createdAt: lifetime.createdAt,
      channelNo: given.channel?.no ?? 0,
      aheadMs: now.getTime() - Date.now(),
      failures: 0,
      cause: undefined,
      devices: devices.map(({ no }) => no),
    }
    const notification: Notification = { ...about, ...lifetime, changedAt: lifetime.createdAt, no: notificationNo }
    return { is: 'created', lifetime, leased: { claim, notification, devices } }
  } catch (error) {
    if (!isDuplicate(error, 'one_answer', 'one_live_name')) throw error
    const earlier = await earlierAnswer(database, scope, given)
    if (!earlier) throw error
    return earlier
  }
}

/** What was made of a request that came before under the same key. */
export async function earlierAnswer(
  database: Database,
  scope: Scope,
  given: Pick<NewNotification, 'idempotencyHash' | 'requestHash'>,
): Promise<(Created & { readonly is: 'repeated' }) | undefined> {
  if (given.idempotencyHash === null) return undefined
  const [row] = await select(
    database,
    {
      id: notifications.id,
      requestHash: notifications.requestHash,
      createdAt: notifications.createdAt,
      dueAt: notifications.dueAt,
      expiresAt: notifications.expiresAt,
    },
    sql`from ${notifications} where ${notifications.appNo} = ${scope.app.no}
        and ${notifications.environment} = ${scope.environment}
        and ${notifications.idempotencyHash} = ${given.idempotencyHash}`,
  )
  if (!row) return undefined
  const { id, requestHash, ...lifetime } = row
  return { is: 'repeated', id, sameRequest: requestHash.equals(given.requestHash), lifetime }
}
