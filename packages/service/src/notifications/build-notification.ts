import { randomBytes } from 'node:crypto'
import { blockSize, referencesOf, type Target, uuidV7, type Writing } from '@zbell/core'
import { type Database, type Scope, whereOf } from '../database/index.ts'
import type { BlockDevice, Notification } from '../engine/index.ts'
import { checkReferences, isPersonal, personalDevices, targetDevices } from '../targets/index.ts'
import { draftOf, type NotificationRequest } from './draft.ts'
import {
  type BuiltNotification,
  type Due,
  firstWorkStatement,
  type NewNotification,
  notificationStatements,
} from './store/store-notification.ts'

/** What a request, a schedule, a trigger or a withdrawal says of a notification. */
export type NotificationOrder = {
  readonly request: NotificationRequest
  readonly sentBy: string
  /** A new one when left out. */
  readonly id?: string
  readonly name?: string | null | undefined
  readonly due?: Due | undefined
  readonly schedule?: string | undefined
  readonly idempotencyHash?: Buffer | null
  readonly requestHash?: Buffer
  /** Said in place of what a template says. */
  readonly overrides?: Pick<Writing, 'tag' | 'channel'>
  /** Which references have to be there: a trigger’s rows name people who may have gone, and goes on. */
  readonly references: 'all' | 'segments'
}

/** What a request for somebody who waits brings along. */
export type BuildOptions = {
  /** For so long this process leases the block of a few people; 0 leaves it to any. */
  readonly leaseMs?: number
  /** The devices of a few people, where looking for them has begun already. */
  readonly few?: Promise<readonly BlockDevice[] | undefined> | undefined
  /** Called with the few devices that are about to be sent to, before that is certain. */
  onFound?(notification: Omit<Notification, 'no'>, devices: readonly BlockDevice[]): void
}

type Parts = { readonly database: Database; readonly keptDays: number }

/**
 * The one way in which a notification comes about: takes what is to be sent as of now, and says what stores it.
 * @throws {Problem} for what cannot be sent
 */
export async function buildNotification(
  parts: Parts,
  scope: Scope,
  order: NotificationOrder,
  options: BuildOptions = {},
): Promise<BuiltNotification> {
  const { request, overrides, references, id = uuidV7(Date.now(), randomBytes(10)), name = null, ...rest } = order
  const draft = await draftOf(parts, scope, request, overrides)
  const given = {
    idempotencyHash: null,
    requestHash: Buffer.alloc(32),
    ...rest,
    ...draft,
    id,
    name,
    paused: request.paused,
  }
  return begin(parts.database, scope, given, options, () =>
    checkReferences(parts.database, scope, request.to, references),
  )
}

/** Decides how a notification begins. @param check refuses a target that names what is not there */
export async function begin(
  database: Database,
  scope: Scope,
  given: NewNotification,
  { leaseMs = 0, few, onFound }: BuildOptions = {},
  check: () => Promise<void> = async () => {},
): Promise<BuiltNotification> {
  const atOnce = given.spreadSeconds === 0 && !given.paused && given.due === undefined
  const found = atOnce ? ((await few) ?? (await fewDevices(database, scope, given.target))) : undefined
  // A device that is found proves its reference; what is not found has to be looked for.
  if (found === undefined || found.length === 0 || referencesOf(given.target).length > 1) await check()
  const state = given.due ? 'scheduled' : !found ? 'expanding' : found.length === 0 ? 'finished' : 'sending'
  const isLeased = found !== undefined && found.length > 0 && leaseMs > 0
  // Close enough for making ready; what is stored and answered is the database's own.
  const nowMs = Date.now()
  const { due, ...rest } = given
  const about = {
    ...rest,
    appNo: scope.app.no,
    environment: scope.environment,
    state,
    pause: given.paused ? 'paused' : 'none',
    stopped: false,
    channel: given.channel ?? null,
    withdrawnAt: null,
    prunedAt: null,
    expanded: found?.length ?? 0,
    finishedAt: null,
    dueAt: due?.at ?? null,
    graceSeconds: due?.graceSeconds ?? null,
    missedAt: null,
    readerLocal: due?.readers?.local ?? null,
    readerPast: due?.readers?.past ?? null,
    schedule: given.schedule ?? null,
    createdAt: new Date(nowMs),
    expiresAt: new Date(nowMs + given.ttlSeconds * 1_000),
    changedAt: new Date(nowMs),
    version: 0,
  } as const
  if (isLeased) onFound?.(about, found)
  const beginning = { devices: found?.map(({ no }) => no), state, leaseMs: isLeased ? leaseMs : 0 } as const
  return {
    given,
    about,
    devices: found,
    leaseMs: beginning.leaseMs,
    statements: [
      ...notificationStatements(scope, given, beginning),
      ...(state === 'finished' ? [] : [firstWorkStatement(scope, given, beginning)]),
    ],
  }
}

/** The devices of a target that names so few people that they are found at once. @returns `undefined` for others */
export async function fewDevices(
  database: Database,
  scope: Scope,
  target: Target,
): Promise<readonly BlockDevice[] | undefined> {
  if (!isPersonal(target)) return undefined
  const found = await personalDevices(database, target, whereOf(scope), blockSize + 1)
  return found.length <= blockSize ? found : undefined
}

/** Whether a notification that was built has a device to go to. */
export async function hasDevices(database: Database, scope: Scope, { given, devices }: BuiltNotification) {
  const [first] = devices ?? (await targetDevices(database, given.target, whereOf(scope), 0, 1))
  return first !== undefined
}
