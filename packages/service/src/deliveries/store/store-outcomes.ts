import {
  deliveryStateOfCode,
  deliveryStates,
  deviceEvents,
  type Environment,
  packBlock,
  platforms,
  reasons,
  stepsTaken,
} from '@zbell/core'
import { and, eq, inArray, isNull, sql } from 'drizzle-orm'
import {
  build,
  type Database,
  deliveries,
  devices as devicesTable,
  earlyReceipts,
  notifications,
  now,
  select,
  type Tx,
} from '../../database/index.ts'
import { publishRetired } from '../../devices/index.ts'
import { type Claim, type Ended, type Outcomes, pauseCodes } from '../../engine/index.ts'
import { publishDeliveries, type Step, subscribers } from '../../events/index.ts'
import { enqueue, extend, finish, hasWork, heldBody, release } from '../../queue/index.ts'
import { CountChanges } from './counts.ts'
import { DayCounts, type OnStep } from './day-counts.ts'
import { keepAnswers } from './gateway-answers.ts'
import { publishFinished } from './publish-finished.ts'
import { receiptMoments, reportedSteps, takeEarly } from './store-receipts.ts'

/**
 * Moves devices from a block to their rows, in one transaction and only while the claim still counts.
 * @param options `again`: the answer to an earlier commit of the same was lost, or a row of it is there: some or all of it may
 * be stored, and is neither stored nor counted twice
 * @returns false when the lease was lost: nothing was stored, and another worker has the block
 */
export async function storeOutcomes(
  database: Database,
  claim: Claim,
  outcomes: Outcomes,
  leaseMs: number,
  { again = false, onStep = () => {} }: { readonly again?: boolean; readonly onStep?: OnStep } = {},
): Promise<boolean> {
  const { remaining, retries, putBack = false } = outcomes
  let days = new DayCounts()
  const stored = await database.transact(async (tx) => {
    days = new DayCounts()
    // First of all the notification's row: its lock orders outcomes and receipts of one notification.
    await tx.change(
      build
        .update(notifications)
        .set({ changedAt: now, version: sql`${notifications.version} + 1` })
        .where(eq(notifications.no, claim.notificationNo)),
    )
    const body = Buffer.from(packBlock(remaining))
    // A block that is left as this would leave it: an earlier commit of the same has stored all else of it, too.
    if (again && remaining.length > 0 && (await heldBody(tx, claim))?.body?.equals(body)) return true
    const held =
      remaining.length === 0
        ? await finish(tx, claim)
        : await extend(tx, claim, leaseMs, { body, size: remaining.length })
    if (!held) return false
    const ended = again ? await notStoredYet(tx, claim.notificationNo, outcomes.ended) : outcomes.ended
    if (ended.length > 0) {
      const early = await insertDeliveries(tx, claim, ended, days)
      const all = await subscribers(tx, claim)
      if (all.length > 0) await publishDeliveries(tx, claim.notificationNo, all, [...ended.map(stepOf), ...early])
    }
    if (putBack && remaining.length > 0) await putBackRest(tx, claim)
    await enqueue(
      tx,
      claim.notificationNo,
      retries.map(({ devices, failures, cause, afterMs }) => ({
        kind: 'send',
        appNo: claim.appNo,
        environment: claim.environment,
        urgency: claim.urgency,
        due: { afterMs },
        failures,
        cause: reasons[cause].code,
        size: devices.length,
        body: Buffer.from(packBlock(devices)),
      })),
    )
    for (const reason of ['token-gone', 'push-service-silent'] as const)
      await retire(
        tx,
        claim,
        ended.filter((one) => one.reason === reason).map((one) => one.deviceNo),
        reason,
      )
    if (remaining.length === 0 && retries.length === 0) await finishIfDone(tx, claim.notificationNo)
    return true
  })
  if (stored) days.tell(onStep)
  return stored
}

/** Devices that cannot be rung any more, as their gateway said or by its silence. */
async function retire(
  tx: Tx,
  claim: Claim,
  deviceNos: readonly number[],
  reason: 'token-gone' | 'push-service-silent',
): Promise<void> {
  if (deviceNos.length === 0) return
  await publishRetired(tx, claim, deviceNos, reason)
  await tx.change(
    sql`insert into device_events (device_no, at, what)
     select no, utc_timestamp(3), ${deviceEvents[reason].code} from devices where no in ${deviceNos} and retired_at is null`,
  )
  await tx.change(
    build
      .update(devicesTable)
      .set({ retiredAt: now, retiredReason: reason, changedAt: now })
      .where(and(inArray(devicesTable.no, deviceNos), isNull(devicesTable.retiredAt))),
  )
}

/** Counting twice would be worse than reading once more. */
async function notStoredYet(tx: Tx, notificationNo: number, ended: readonly Ended[]): Promise<readonly Ended[]> {
  if (ended.length === 0) return ended
  const rows = await select(
    tx,
    { no: deliveries.deviceNo },
    sql`from ${deliveries} where ${deliveries.notificationNo} = ${notificationNo}
        and ${deliveries.deviceNo} in ${ended.map((one) => one.deviceNo)}`,
  )
  const stored = new Set(rows.map(({ no }) => no))
  return ended.filter((one) => !stored.has(one.deviceNo))
}

async function putBackRest(tx: Tx, claim: Claim): Promise<void> {
  const [row] = await select(
    tx,
    { pause: notifications.pause },
    sql`from ${notifications} where ${notifications.no} = ${claim.notificationNo}`,
  )
  // Whether its app is stopped is asked, and held, by whoever claims it next.
  await release(tx, claim, row?.pause === pauseCodes.paused ? 'suspended' : { afterMs: 0 })
}

const stepOf = ({ state, reason, answer, deviceNo, userNo, atMs }: Ended): Step => ({
  kind: `delivery.${state}`,
  deviceNo,
  userNo,
  atMs,
  ...(state === 'accepted' ? {} : { reason: reason ?? null }),
  ...(state === 'refused' ? { status: answer?.status ?? null, says: answer?.says.slice(0, 200) || null } : {}),
})

/** @returns what receipts that had come early make of them */
async function insertDeliveries(tx: Tx, claim: Claim, ended: readonly Ended[], days: DayCounts): Promise<Step[]> {
  const { notificationNo } = claim
  const createdMs = claim.createdAt.getTime()
  const early = await select(
    tx,
    {
      deviceNo: earlyReceipts.deviceNo,
      state: earlyReceipts.state,
      action: earlyReceipts.action,
      appState: earlyReceipts.appState,
      became: earlyReceipts.became,
      at: earlyReceipts.at,
    },
    sql`from ${earlyReceipts} where ${earlyReceipts.notificationNo} = ${notificationNo}
        and ${earlyReceipts.deviceNo} in ${ended.map((one) => one.deviceNo)} order by ${earlyReceipts.state}`,
  )
  const answers = await keepAnswers(tx, notificationNo, ended)
  const rows = ended.map((one, i) => deliveryValues(notificationNo, one, answers[i]!)).join(',')
  await tx.change(
    sql`insert into deliveries (notification_no,
      device_no, platform, state, reason, attempts, gateway_reference, answer, detail, accepted_at, ended_at)
     values ${sql.raw(rows)}`,
  )
  const counts = new CountChanges()
  for (const { platform, state, reason = null } of ended) counts.add({ platform, state, reason }, 1)
  for (const { platform, state, reason, atMs } of ended)
    days.add(platforms.indexOf(platform), state, reason === undefined ? 0 : reasons[reason].code, atMs - createdMs)
  if (early.length === 0) {
    await counts.store(tx, notificationNo)
    await days.store(tx, claim)
    return []
  }
  const steps: Step[] = []
  for (const one of ended) {
    const receipts = early.filter((receipt) => receipt.deviceNo === one.deviceNo)
    if (receipts.length === 0) continue
    const record = takeEarly({ state: one.state, moments: {} }, receipts)
    const accepted = one.state === 'accepted' ? { accepted: one.atMs } : {}
    for (const { state, durationMs } of stepsTaken({}, { ...record.moments, ...accepted }, createdMs))
      days.add(platforms.indexOf(one.platform), state, 0, durationMs)
    const reason = one.reason ?? null
    counts.add({ platform: one.platform, state: one.state, reason }, -1)
    counts.add(
      { platform: one.platform, state: record.state, reason: deliveryStates[record.state] < 10 ? null : reason },
      1,
    )
    const first = <K extends 'action' | 'appState' | 'became'>(column: K) =>
      receipts.find((receipt) => receipt[column] !== null)?.[column] ?? null
    const action = first('action')
    steps.push(...reportedSteps({}, record.moments, one, action))
    const state = deliveryStates[record.state]
    const [receivedAt, shownAt, dismissedAt, openedAt] = receiptMoments(record)
    await tx.change(
      build
        .update(deliveries)
        .set({
          state,
          reason: sql`if(${state} < 10, 0, ${deliveries.reason})`,
          action,
          appState: first('appState'),
          became: first('became'),
          receivedAt,
          shownAt,
          dismissedAt,
          openedAt,
        })
        .where(and(eq(deliveries.notificationNo, notificationNo), eq(deliveries.deviceNo, one.deviceNo))),
    )
  }
  await counts.store(tx, notificationNo)
  await days.store(tx, claim)
  await tx.change(
    build
      .delete(earlyReceipts)
      .where(
        and(
          eq(earlyReceipts.notificationNo, notificationNo),
          inArray(earlyReceipts.deviceNo, [...new Set(early.map((receipt) => receipt.deviceNo))]),
        ),
      ),
  )
  return steps
}

/**
 * Written by hand: the driver's escaping would cost more than all the rest of a block (the bench `broadcast` shows it).
 * Nothing here but numbers and checked text.
 */
function deliveryValues(notificationNo: number, one: Ended, answer: string | null): string {
  const state = deliveryStates[deliveryStateOfCode(deliveryStates[one.state])]
  const reason = one.reason === undefined ? 0 : reasons[one.reason].code
  const at = instantLiteral(one.atMs)
  const moments = one.state === 'accepted' ? `${at},null` : `null,${at}`
  return `(${notificationNo},${one.deviceNo},${platforms.indexOf(one.platform)},${state},${reason},${one.attempts},${referenceLiteral(one.gatewayReference)},${answer === null ? 'null' : `x'${answer}'`},${detailLiteral(one.detail)},${moments})`
}

let lastInstant = { ms: Number.NaN, literal: '' }
/** Most of a block ends within the same few milliseconds. */
function instantLiteral(ms: number): string {
  if (lastInstant.ms !== ms)
    lastInstant = { ms, literal: `'${new Date(ms).toISOString().slice(0, 23).replace('T', ' ')}'` }
  return lastInstant.literal
}

/** A gateway's reference comes from outside: what is not plain is left out. */
const referenceLiteral = (reference: string | undefined): string =>
  reference !== undefined && /^[A-Za-z0-9._:/@-]{1,64}$/.test(reference) ? `'${reference}'` : 'null'

/** The name of a cap, or a time zone: neither has a letter that could end a text. */
const detailLiteral = (detail: string | undefined): string =>
  detail !== undefined && /^[\w.+/-]{1,64}$/.test(detail) ? `'${detail}'` : 'null'

/** Marks a notification as finished when all its devices are found and no work is left. The caller holds the lock on its row. */
export async function finishIfDone(tx: Tx, notificationNo: number): Promise<void> {
  if (await hasWork(tx, notificationNo)) return
  const { affectedRows } = await tx.change(
    build
      .update(notifications)
      .set({ state: 'finished', liveName: null, finishedAt: now })
      .where(sql`${notifications.no} = ${notificationNo} and ${notifications.state} not in ('expanding', 'finished')`),
  )
  // Receipts for devices that the notification never had stay unclaimed; nothing waits for them any more.
  await tx.change(build.delete(earlyReceipts).where(eq(earlyReceipts.notificationNo, notificationNo)))
  if (affectedRows !== 1) return
  await refundIfCapped(tx, notificationNo)
  await publishFinished(tx, notificationNo)
}

/** Now that all is known, what reached nobody counts under no cap. */
async function refundIfCapped(tx: Tx, notificationNo: number): Promise<void> {
  const [row] = await tx.rows<{ appNo: number; environment: Environment; urgency: number }>(
    sql`select app_no as appNo, environment, urgency from notifications n where no = ${notificationNo} and capped
        and exists (select 1 from notification_counts c
                    where c.notification_no = n.no and c.state >= ${deliveryStates.skipped} and c.count > 0)`,
  )
  if (row) await enqueue(tx, notificationNo, [{ kind: 'refund', ...row }])
}
