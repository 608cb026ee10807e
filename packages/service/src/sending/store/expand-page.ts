import { blockSize, packBlock, spreadPlan } from '@zbell/core'
import { and, eq, sql } from 'drizzle-orm'
import { build, type Database, notifications, now, schedules, select, type Tx } from '../../database/index.ts'
import { finishIfDone, publishFinished } from '../../deliveries/index.ts'
import { type Claim, type Expansion, type Notification, pauseCodes, ringsAt } from '../../engine/index.ts'
import { enqueue, extend, finish, type NewWork, release } from '../../queue/index.ts'
import { countTarget, lookSize, targetDevices } from '../../targets/index.ts'
import { lookForReaders } from './expand-by-zone.ts'

/** How many devices one transaction stores: what a page costs apart from its devices is paid once for all of them. */
const pageSize = 5 * blockSize

/**
 * The devices of a target as they were found by one look, in the order of their numbers. A look finds a million; to look for
 * each page would walk through all members of a topic again and again.
 */
export type ReaderCursor = {
  readonly after: number
  readonly numbers: readonly number[]
  /** Nothing is behind them. */
  readonly whole: boolean
  /** By the clock of each reader: when it is somebody’s turn next. */
  readonly nextMs?: number | undefined
}

async function lookFor(database: Database, notification: Notification, after: number): Promise<ReaderCursor> {
  const patient = database.bounded({ withinMs: lookWithinMs })
  const numbers = await targetDevices(patient, notification.target, notification, after, lookSize)
  return { after, numbers, whole: numbers.length < lookSize }
}

const lookWithinMs = 120_000
/** Eight megabytes each, at most. */
const maxLooks = 8

/** The cursors of what is being expanded, by the number of its work. */
export type ReaderCursors = Map<number, ReaderCursor>

/**
 * Expands one page of a notification's target, in device order, into blocks of work. Where it got to is stored with the
 * blocks, so that after a crash the next claim goes on from there.
 */
export async function expandPage(
  database: Database,
  claim: Claim,
  notification: Notification,
  leaseMs: number,
  looks: ReaderCursors = new Map(),
): Promise<Expansion> {
  const nowMs = Date.now() + claim.aheadMs
  if (isMissed(notification, nowMs)) return storeMissed(database, claim, notification)
  const known = looks.get(claim.no)
  const look =
    known ??
    (await (notification.readerLocal === null ? lookFor : lookForReaders)(
      database,
      notification,
      await expandedTo(database, notification.no),
      nowMs,
    ))
  const expansion = await storePage(database, claim, notification, leaseMs, look)
  looks.delete(claim.no)
  if (expansion === 'more') looks.set(claim.no, look)
  // What was given up on the way, as by a lease that was lost, is not kept for ever.
  const [oldest] = looks.keys()
  if (looks.size > maxLooks && oldest !== undefined) looks.delete(oldest)
  return expansion === 'again' ? 'more' : expansion
}

/** Whether nothing ran at its hour, nor for so long after it that it would only surprise. */
const isMissed = ({ state, pause, readerLocal, dueAt, graceSeconds }: Notification, nowMs: number): boolean =>
  state === 'scheduled' &&
  readerLocal === null &&
  pause === 'none' &&
  dueAt !== null &&
  graceSeconds !== null &&
  nowMs - dueAt.getTime() > graceSeconds * 1_000

/** Ends one that was missed, and says so. */
async function storeMissed(database: Database, claim: Claim, { no }: Notification): Promise<Expansion> {
  return database.transact(async (tx) => {
    if (!(await finish(tx, claim))) return 'lost'
    await tx.change(
      build
        .update(notifications)
        .set({
          state: 'finished',
          missedAt: now,
          finishedAt: now,
          liveName: null,
          changedAt: now,
          version: sql`${notifications.version} + 1`,
        })
        .where(and(eq(notifications.no, no), eq(notifications.state, 'scheduled'))),
    )
    await publishFinished(tx, no)
    return 'done'
  })
}

async function expandedTo(database: Database, no: number): Promise<number> {
  const [row] = await select(
    database,
    { expandedTo: notifications.expandedTo },
    sql`from ${notifications} where ${notifications.no} = ${no}`,
  )
  return row?.expandedTo ?? 0
}

/** @returns `again`: what was looked for is used up, or was of another place, and there may be more */
async function storePage(
  database: Database,
  claim: Claim,
  notification: Notification,
  leaseMs: number,
  look: ReaderCursor,
): Promise<Expansion | 'again'> {
  return database.transact(async (tx) => {
    const [place] = await select(
      tx,
      {
        expanded: notifications.expanded,
        expandedTo: notifications.expandedTo,
        spreadOver: notifications.spreadOver,
        pause: notifications.pause,
      },
      sql`from ${notifications} where ${notifications.no} = ${notification.no} for update`,
    )
    if (!place) return 'lost'
    if (place.pause === pauseCodes.paused) return (await release(tx, claim, 'suspended')) ? 'suspended' : 'lost'
    const cancelled = place.pause === pauseCodes.cancelled
    const from = firstAfter(look.numbers, place.expandedTo)
    const numbers = cancelled ? [] : look.numbers.slice(from, from + pageSize)
    const usedUp = from + numbers.length === look.numbers.length
    if (place.expandedTo < look.after || (numbers.length === 0 && !look.whole && !cancelled)) return 'again'
    const rests = !cancelled && usedUp && look.whole && look.nextMs !== undefined
    const done = cancelled || (usedUp && look.whole && !rests)
    const afterMs = rests ? look.nextMs! - (Date.now() + claim.aheadMs) : 0
    const held = rests
      ? release(tx, claim, { afterMs: Math.max(0, afterMs) })
      : done
        ? finish(tx, claim)
        : extend(tx, claim, leaseMs)
    if (!(await held)) return 'lost'
    // All are known when one look found them all.
    const over =
      notification.spreadSeconds === 0 || place.expanded > 0 || cancelled
        ? place.spreadOver
        : look.whole
          ? look.numbers.length
          : await countTarget(tx, notification.target, notification)
    await storeBlocks(tx, notification, claim.urgency, numbers, { done: place.expanded, over })
    await tx.change(
      sql`update notifications set expanded = expanded + ${numbers.length},
        expanded_to = ${rests ? 0 : (numbers.at(-1) ?? place.expandedTo)}, spread_over = ${over}, changed_at = utc_timestamp(3),
         version = version + 1 ${
           done
             ? sql`,
           state = 'sending'`
             : sql`, state = 'expanding'`
         } where no = ${notification.no}`,
    )
    if (done) {
      await finishIfDone(tx, notification.no)
      await noteRun(tx, notification, place.expanded + numbers.length, cancelled)
    }
    return done ? 'done' : rests ? 'suspended' : usedUp ? 'again' : 'more'
  })
}

/** A schedule whose runs reach nobody, one after the other, is told of. */
async function noteRun(
  tx: Tx,
  { schedule, appNo, environment }: Notification,
  found: number,
  cancelled: boolean,
): Promise<void> {
  if (schedule === null || cancelled) return
  await tx.change(
    build
      .update(schedules)
      .set({ emptyRuns: found > 0 ? sql`0` : sql`empty_runs + 1` })
      .where(and(eq(schedules.appNo, appNo), eq(schedules.environment, environment), eq(schedules.name, schedule))),
  )
}

/** The place of the first number greater than this one, in ascending numbers. */
function firstAfter(numbers: readonly number[], after: number): number {
  let [low, high] = [0, numbers.length]
  while (low < high) {
    const middle = (low + high) >> 1
    if (numbers[middle]! > after) high = middle
    else low = middle + 1
  }
  return low
}

/** Cuts devices into blocks, each due when its turn in the spread comes. */
async function storeBlocks(
  tx: Tx,
  { no, appNo, environment, spreadSeconds, readerLocal, dueAt, createdAt }: Notification,
  urgency: number,
  numbers: readonly number[],
  { done, over }: { readonly done: number; readonly over: number },
): Promise<void> {
  if (numbers.length === 0) return
  // By the clock of each reader it begins anew with each turn.
  const beginMs = readerLocal === null ? ringsAt({ dueAt, createdAt }).getTime() : 0
  const { size, dueMs } = spreadPlan(spreadSeconds, over, blockSize)
  const blocks: NewWork[] = []
  for (let at = 0; at < numbers.length; at += size) {
    const block = numbers.slice(at, at + size)
    blocks.push({
      kind: 'send',
      appNo,
      environment,
      urgency,
      due: new Date(beginMs + dueMs(done + at)),
      size: block.length,
      body: Buffer.from(packBlock(block)),
    })
  }
  await enqueue(tx, no, blocks)
}
