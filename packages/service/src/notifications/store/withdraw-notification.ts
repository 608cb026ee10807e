import { blockSize, deliveryStates, packBlock, reasons } from '@zbell/core'
import { and, eq, sql } from 'drizzle-orm'
import {
  build,
  computed,
  type Database,
  deliveries as deliveriesTable,
  notifications,
  now,
  type Scope,
  select,
  type Tx,
} from '../../database/index.ts'
import { CountChanges, DayCounts, finishIfDone } from '../../deliveries/index.ts'
import { type Claim, pauseCodes, type Withdrawal } from '../../engine/index.ts'
import { enqueue, extend, finish, hasOtherWork, heldBody, makeDue, release } from '../../queue/index.ts'
import { pauseIn } from './pause.ts'
import { type BuiltNotification, type Lifetime, notificationStatements, urgencyCode } from './store-notification.ts'

/** So many deliveries are marked, and their devices woken, in one transaction. */
const batchSize = 5 * blockSize
/** How long after one pass it is looked whether what was still being sent has come to its end. */
const nextPassMs = 500
const takenBack = reasons['taken-back'].code

/** Its device shows the notification, or may: also where the answer to a request for it was never recorded. */
const mayBeShown = sql`(state between ${deliveryStates.accepted} and ${deliveryStates.shown}
  or state = ${deliveryStates.withdrawn} and reason = ${reasons.cancelled.code} and attempts > 0)`
/** It was opened or put away; only the first pass tells these devices as well. */
const wasSeen = sql`state in (${deliveryStates.dismissed}, ${deliveryStates.opened})`

/** Its devices are found by the work that marks the deliveries. */
const expanding = { devices: undefined, state: 'expanding' } as const

/** How far the work has come. */
type Passes = {
  /** The notification that wakes devices; null in work of an earlier version, whose wake finds them by itself. */
  readonly wakeNo: number | null
  /** Passes over the deliveries that have come to their end. */
  readonly done: number
  /** Nothing else was being sent when the present pass began. */
  readonly isLast: boolean
}

/**
 * Takes a notification back, in one transaction: what of it still waits ends, and work is made that marks its deliveries and wakes
 * their devices to remove it.
 * @param wake the notification that reaches them
 */
export async function withdrawNotification(
  database: Database,
  scope: Scope,
  notification: { readonly no: number },
  wake: BuiltNotification,
): Promise<Lifetime> {
  return database.transact(async (tx) => {
    const [before] = await select(
      tx,
      { again: computed<0 | 1>(sql`${notifications.withdrawnAt} is not null`) },
      sql`from ${notifications} where ${notifications.no} = ${notification.no} for update`,
    )
    // What is still in the queue shall not come after it was taken back.
    await pauseIn(tx, notification.no, 'cancelled')
    await tx.change(
      build
        .update(notifications)
        .set({
          withdrawnAt: sql`coalesce(${notifications.withdrawnAt}, utc_timestamp(3))`,
          changedAt: now,
          version: sql`${notifications.version} + 1`,
        })
        .where(eq(notifications.no, notification.no)),
    )
    // A second time all are woken once more, by looking for them as for any other target.
    const again = before?.again === 1
    for (const statement of again ? wake.statements : notificationStatements(scope, wake.given, expanding))
      await tx.change(statement)
    const [stored] = await select(
      tx,
      {
        no: notifications.no,
        createdAt: notifications.createdAt,
        dueAt: notifications.dueAt,
        expiresAt: notifications.expiresAt,
      },
      sql`from ${notifications} where ${notifications.no} = @notification`,
    )
    if (!stored) throw new Error('a notification that was just stored is not there')
    const { no: wakeNo, ...lifetime } = stored
    const { app, environment } = scope
    const urgency = urgencyCode('high')
    if (!again)
      await enqueue(tx, notification.no, [
        { kind: 'withdraw', appNo: app.no, environment, urgency, body: bodyOf({ wakeNo, done: 0, isLast: false }) },
      ])
    return lifetime
  })
}

/**
 * Marks a page of deliveries as withdrawn and makes the work that wakes their devices. While something of the notification is still
 * being sent, another pass follows: what a gateway accepts until then is told as well. A claim that died on the way is
 * followed by one that begins anew, which finds what is left.
 */
export async function withdrawPage(
  database: Database,
  claim: Claim,
  after: number,
  leaseMs: number,
): Promise<Withdrawal> {
  return database.transact(async (tx) => {
    await tx.change(
      build
        .update(notifications)
        .set({ changedAt: now, version: sql`${notifications.version} + 1` })
        .where(eq(notifications.no, claim.notificationNo)),
    )
    const known = await passesOf(tx, claim)
    if (!known) return { is: 'lost' }
    if (after === 0) await makeDue(tx, claim.notificationNo)
    const passes = after > 0 ? known : { ...known, isLast: !(await hasOtherWork(tx, claim.notificationNo, claim.no)) }
    // Between the first pass and the last there is nothing to be seen yet.
    if (after === 0 && passes.done > 0 && !passes.isLast) return waitForNext(tx, claim)
    const found = passes.done > 0 ? mayBeShown : sql`(${mayBeShown} or ${wasSeen})`
    const rows = await select(
      tx,
      {
        no: deliveriesTable.deviceNo,
        platform: deliveriesTable.platform,
        state: deliveriesTable.state,
        reason: deliveriesTable.reason,
        marked: computed<Row['marked']>(sql`${mayBeShown}`),
      },
      sql`from ${deliveriesTable} where ${deliveriesTable.notificationNo} = ${claim.notificationNo}
          and ${deliveriesTable.deviceNo} > ${after} and ${found} order by ${deliveriesTable.deviceNo}
          limit ${batchSize}`,
    )
    await mark(
      tx,
      claim,
      rows.filter(({ marked }) => marked === 1),
    )
    if (passes.wakeNo !== null) await wakeDevices(tx, claim, passes.wakeNo, rows)
    if (rows.length === batchSize) {
      await extend(tx, claim, leaseMs, { body: bodyOf(passes), size: 0 })
      return { is: 'more', after: rows.at(-1)!.no }
    }
    if (!passes.isLast) {
      await extend(tx, claim, leaseMs, { body: bodyOf({ ...passes, done: passes.done + 1 }), size: 0 })
      return waitForNext(tx, claim)
    }
    await finish(tx, claim)
    await finishIfDone(tx, claim.notificationNo)
    if (passes.wakeNo !== null) await endWake(tx, passes.wakeNo)
    return { is: 'done' }
  })
}

type Row = {
  readonly no: number
  readonly platform: number
  readonly state: number
  readonly reason: number
  readonly marked: 0 | 1
}

const bodyOf = (passes: Passes): Buffer => Buffer.from(JSON.stringify(passes))

/** @returns `undefined` when the lease was lost */
async function passesOf(tx: Tx, claim: Claim): Promise<Passes | undefined> {
  const work = await heldBody(tx, claim)
  if (!work) return undefined
  return work.body ? (JSON.parse(work.body.toString()) as Passes) : { wakeNo: null, done: 0, isLast: false }
}

async function waitForNext(tx: Tx, claim: Claim): Promise<Withdrawal> {
  await release(tx, claim, { afterMs: nextPassMs })
  return { is: 'done' }
}

async function mark(tx: Tx, claim: Claim, rows: readonly Row[]): Promise<void> {
  if (rows.length === 0) return
  const { notificationNo } = claim
  await tx.change(
    build
      .update(deliveriesTable)
      .set({ state: deliveryStates.withdrawn, reason: takenBack, endedAt: now })
      .where(
        sql`${deliveriesTable.notificationNo} = ${notificationNo}
          and ${deliveriesTable.deviceNo} between ${rows[0]!.no} and ${rows.at(-1)!.no} and ${mayBeShown}`,
      ),
  )
  const counts = new CountChanges()
  const days = new DayCounts()
  for (const { platform, state, reason } of rows) {
    counts.addCodes(platform, state, reason, -1)
    counts.addCodes(platform, deliveryStates.withdrawn, takenBack, 1)
    days.add(platform, 'withdrawn', takenBack, 0)
  }
  await counts.store(tx, notificationNo)
  await days.store(tx, claim)
}

/** Adds devices to the notification that wakes them, as blocks that are due at once. */
async function wakeDevices(tx: Tx, claim: Claim, wakeNo: number, rows: readonly Row[]): Promise<void> {
  if (rows.length === 0) return
  const [wake] = await select(
    tx,
    { pause: notifications.pause },
    sql`from ${notifications} where ${notifications.no} = ${wakeNo} for update`,
  )
  if (!wake) return
  await tx.change(
    build
      .update(notifications)
      .set({
        expanded: sql`${notifications.expanded} + ${rows.length}`,
        changedAt: now,
        version: sql`${notifications.version} + 1`,
      })
      .where(eq(notifications.no, wakeNo)),
  )
  const { appNo, environment, urgency } = claim
  const blocks = Array.from({ length: Math.ceil(rows.length / blockSize) }, (_, i) =>
    rows.slice(i * blockSize, (i + 1) * blockSize).map(({ no }) => no),
  )
  await enqueue(
    tx,
    wakeNo,
    blocks.map((devices) => ({
      kind: 'send',
      appNo,
      environment,
      urgency,
      suspended: wake.pause === pauseCodes.paused,
      size: devices.length,
      body: Buffer.from(packBlock(devices)),
    })),
  )
}

/** All devices that it wakes are known. */
async function endWake(tx: Tx, wakeNo: number): Promise<void> {
  await tx.change(
    build
      .update(notifications)
      .set({ state: 'sending', changedAt: now, version: sql`${notifications.version} + 1` })
      .where(and(eq(notifications.no, wakeNo), eq(notifications.state, 'expanding'))),
  )
  await finishIfDone(tx, wakeNo)
}
