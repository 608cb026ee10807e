import {
  blockSize,
  type Filling,
  type Mode,
  packBlock,
  referencesOf,
  type Target,
  type Urgency,
  urgencies,
  uuidFromBytes,
  type Writing,
  wellFormedJson,
} from '@zbell/core'
import type { Past } from '@zbell/core/calendar'
import type { Channel } from '@zbell/core/restraint'
import { type SQL, sql } from 'drizzle-orm'
import { commas, type Database, isDuplicate, type Scope, uuidBuffer } from '../../database/index.ts'
import { publishFinished } from '../../deliveries/index.ts'
import { type BlockDevice, type HeldWork, type Notification, pauseCodes } from '../../engine/index.ts'
import { isStopped } from '../../policy/index.ts'
import { enqueueStatement, release } from '../../queue/index.ts'
import { isPersonal, personalDevices } from '../../targets/index.ts'

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
      /** A few people's devices are found at once; their block is this process's, to be sent without another look. */
      readonly mine: HeldWork | undefined
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

/** What its maker brings along. */
export type Making = {
  /** How long this process holds the block of a few people; 0 leaves it to whoever comes. */
  readonly leaseMs: number
  /** Refuses a target that names what is not there. */
  checkReferences?(): Promise<void>
  /** The devices of a few people, where looking for them has begun already. */
  readonly few?: Promise<readonly BlockDevice[] | undefined> | undefined
  /** Hears of the few devices that are about to be rung, before it is certain. */
  onFound?(notification: Omit<Notification, 'no'>, devices: readonly BlockDevice[]): void
}

/** The devices of a target that names so few people that they are found at once. @returns `undefined` for others */
export async function fewDevices(
  database: Database,
  scope: Scope,
  target: Target,
): Promise<readonly BlockDevice[] | undefined> {
  if (!isPersonal(target)) return undefined
  const where = { appNo: scope.app.no, environment: scope.environment }
  const found = await personalDevices(database, target, where, blockSize + 1)
  return found.length <= blockSize ? found : undefined
}

/**
 * Stores a notification together with the work of expanding it, in one transaction: what was answered is never lost. For a
 * few people the devices are found in the same breath.
 * @throws {DuplicateKey} `one_live_name` when a live notification has this name
 */
export async function createNotification(
  database: Database,
  scope: Scope,
  given: NewNotification,
  { leaseMs, checkReferences, few, onFound }: Making,
): Promise<Created> {
  const urgency = urgencyCode(given.urgency)
  const atOnce = given.spreadSeconds === 0 && !given.paused && given.due === undefined
  const found = atOnce ? ((await few) ?? (await fewDevices(database, scope, given.target))) : undefined
  const devices = found?.map(({ no }) => no)
  // A device that is found proves its reference; what is not found has to be looked for.
  if (devices === undefined || devices.length === 0 || referencesOf(given.target).length > 1) await checkReferences?.()
  const state = given.due
    ? 'scheduled'
    : devices === undefined
      ? 'expanding'
      : devices.length === 0
        ? 'finished'
        : 'sending'
  const held = devices !== undefined && devices.length > 0 && leaseMs > 0
  // Close enough for making ready; what is stored and answered is the database's own.
  const nowMs = Date.now()
  const { due: _due, ...rest } = given
  const about = {
    ...rest,
    appNo: scope.app.no,
    environment: scope.environment,
    state,
    pause: 'none',
    stopped: false,
    channel: given.channel ?? null,
    withdrawnAt: null,
    prunedAt: null,
    expanded: devices?.length ?? 0,
    finishedAt: null,
    dueAt: given.due?.at ?? null,
    graceSeconds: given.due?.graceSeconds ?? null,
    missedAt: null,
    readerLocal: given.due?.readers?.local ?? null,
    readerPast: given.due?.readers?.past ?? null,
    schedule: given.schedule ?? null,
    createdAt: new Date(nowMs),
    expiresAt: new Date(nowMs + given.ttlSeconds * 1_000),
    changedAt: new Date(nowMs),
    version: 0,
  } as const
  if (held && found) onFound?.(about, found)
  try {
    type Stored = Lifetime & {
      readonly notificationNo: number
      readonly workNo: number
      readonly now: Date
      readonly stopped: number
    }
    const statements = notificationStatements(scope, given, { devices, state, heldMs: held ? leaseMs : 0 })
    const asks = sql`select no as notificationNo, last_insert_id() as workNo, created_at as createdAt, due_at as dueAt,
         expires_at as expiresAt, utc_timestamp(3) as now, ${isStopped(sql`n`)} as stopped
         from notifications n where no = @notification`
    // One that has no devices is at its end as it begins, and that is told in the same transaction.
    const [stored] =
      state === 'finished'
        ? await database.transact(async (tx) => {
            for (const statement of statements) await tx.change(statement)
            const rows = await tx.rows<Stored>(asks)
            await publishFinished(tx, rows[0]!.notificationNo)
            return rows
          })
        : await database.compound<Stored>(statements, asks)
    if (!stored) throw new Error('a notification that was just stored is not there')
    const { notificationNo, workNo, now, stopped, ...lifetime } = stored
    // Its app is stopped: whoever claims it sets it aside.
    if (held && stopped === 1) await release(database, { no: workNo, fence: 1 }, { afterMs: 0 })
    if (!held || !found || stopped === 1) return { is: 'created', mine: undefined, lifetime }
    const notification: Notification = { ...about, ...lifetime, changedAt: lifetime.createdAt, no: notificationNo }
    const claim = { no: workNo, fence: 1, appNo: scope.app.no, notificationNo, urgency, kind: 'send' as const }
    const channelNo = given.channel?.no ?? 0
    const of = {
      environment: scope.environment,
      createdAt: lifetime.createdAt,
      channelNo,
      aheadMs: now.getTime() - Date.now(),
    }
    return {
      is: 'created',
      lifetime,
      mine: {
        claim: { ...claim, ...of, failures: 0, cause: undefined, devices },
        notification,
        devices: found,
      },
    }
  } catch (error) {
    if (!isDuplicate(error, 'one_answer', 'one_live_name')) throw error
    const earlier = await earlierAnswer(database, scope, given)
    if (!earlier) throw error
    return earlier
  }
}

/**
 * What stores a notification with its first work; its number is then in `@notification`. All times are the database's.
 * @param first its devices, where they are known already, and for how long this process holds their block
 */
export function notificationStatements(
  scope: Scope,
  given: NewNotification,
  first: {
    readonly devices: readonly number[] | undefined
    readonly state: Notification['state']
    readonly heldMs: number
    /** Its work is made elsewhere. */
    readonly withoutWork?: boolean
  },
): SQL[] {
  const { devices, state, heldMs, withoutWork = state === 'finished' } = first
  const urgency = urgencyCode(given.urgency)
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
    urgency,
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
  const work = enqueueStatement(sql`@notification`, [
    {
      kind: devices === undefined ? 'expand' : 'send',
      appNo: scope.app.no,
      environment: scope.environment,
      urgency,
      suspended: given.paused,
      ...(given.due ? { due: given.due.at } : {}),
      heldMs,
      size: devices?.length ?? 0,
      body: devices && devices.length > 0 ? Buffer.from(packBlock(devices)) : null,
    },
  ])
  return [
    sql`insert into notifications (id, app_no, environment, state, target, content, filling, template, name,
              live_name, tag, urgency, mode, ttl_seconds, spread_seconds, pause, sent_by, idempotency_hash, request_hash,
              expanded, expanded_to, due_at, grace_seconds, reader_local, reader_past, schedule, channel_no, created_at, changed_at, expires_at, finished_at)
            values (${commas(row)}, utc_timestamp(3), utc_timestamp(3),
              ${begins} + interval ${given.ttlSeconds} second, ${state === 'finished' ? sql`utc_timestamp(3)` : null})`,
    sql`set @notification = last_insert_id()`,
    ...(withoutWork ? [] : [work]),
  ]
}

/** What was made of a request that came before under the same key. */
export async function earlierAnswer(
  database: Database,
  scope: Scope,
  given: Pick<NewNotification, 'idempotencyHash' | 'requestHash'>,
): Promise<(Created & { readonly is: 'repeated' }) | undefined> {
  if (given.idempotencyHash === null) return undefined
  const [row] = await database.rows<Lifetime & { readonly id: Buffer; readonly requestHash: Buffer }>(
    sql`select id, request_hash as requestHash, created_at as createdAt, due_at as dueAt, expires_at as expiresAt
        from notifications where app_no = ${scope.app.no} and environment = ${scope.environment}
          and idempotency_hash = ${given.idempotencyHash}`,
  )
  if (!row) return undefined
  const { id, requestHash, ...lifetime } = row
  return { is: 'repeated', id: uuidFromBytes(id), sameRequest: requestHash.equals(given.requestHash), lifetime }
}
