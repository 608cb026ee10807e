import { type SQL, sql } from 'drizzle-orm'
import { type Database, type Reader, type Tx, tuples, type Where } from '../database/index.ts'
import { afterNow, enqueueStatement, type Held } from '../queue/index.ts'

/** The kinds of what is told: what happened, and what is told once more because somebody asked for it. */
type TellingKind = 'tell' | 'retell'

/** Events that wait for a receiver, in the hands of this process. */
export type ClaimedTelling = Held & {
  readonly kind: TellingKind
  readonly failures: number
  readonly size: number
  readonly body: Buffer
  readonly madeAt: Date
  /** The database’s clock when it was claimed. */
  readonly claimedAt: Date
}

/** Nothing that is told overtakes anything else that is. */
const tellingUrgency = 0
const isDue = sql`due_at <= utc_timestamp(3) and coalesce(leased_until <= utc_timestamp(3), true)`
const ofReceiver = (no: number) => sql`pool = 'telling' and subject_no = ${no}`

/** What puts events into the queue for a receiver. @param works at least one */
export const tellingStatement = (
  { appNo, environment }: Where,
  receiverNo: number,
  works: readonly {
    readonly kind: TellingKind
    readonly size: number
    readonly body: Buffer
    readonly failures?: number
    /** Since when the events wait; now, when left out. */
    readonly madeAt?: Date
  }[],
) =>
  enqueueStatement(
    receiverNo,
    works.map((work) => ({ ...work, appNo, environment, pool: 'telling', urgency: tellingUrgency })),
  )

/**
 * Receivers for whom something is due and who may be asked: one of each app before a second one of any, else in no order, so that
 * each has its turn. It costs a look into the index
 * for each that may be asked, however much waits; and a single one while nothing is due at all.
 * @param besides those that this process is at already
 */
export function dueReceivers(
  reader: Reader,
  { besides, most }: { readonly besides: readonly number[]; readonly most: number },
): Promise<{ no: number; appNo: number }[]> {
  const others = besides.length > 0 ? sql`and w.no not in ${besides}` : sql``
  return reader.rows(
    sql`select w.no, w.app_no as appNo, row_number() over (partition by w.app_no order by rand()) as place from webhooks w
        where exists (select 1 from work force index (by_turn) where pool = 'telling' and suspended = false
                        and stopped = false and urgency = ${tellingUrgency} and due_at <= utc_timestamp(3))
          and w.enabled = true and coalesce(w.rests_until <= utc_timestamp(3), true) ${others}
          and (select 1 from work force index (by_subject)
               where pool = 'telling' and subject_no = w.no and ${isDue} limit 1) = 1
        order by place, rand() limit ${most}`,
  )
}

/**
 * Claims what has waited longest for a receiver.
 * @param most events, unless the first piece alone has more @param held what this process has already
 */
export function claimTellings(
  database: Database,
  receiverNo: number,
  { most, pieces, leaseMs, held }: { most: number; pieces: number; leaseMs: number; held: readonly number[] },
): Promise<ClaimedTelling[]> {
  return database.transact(async (tx) => {
    const notHeld = held.length > 0 ? sql`and no not in ${held}` : sql``
    const due = await tx.rows<{ no: number; size: number }>(
      sql`select no, size from work force index (by_subject) where ${ofReceiver(receiverNo)} and ${isDue} ${notHeld}
          order by due_at limit ${pieces} for update skip locked`,
    )
    const taken: number[] = []
    let events = 0
    for (const { no, size } of due) {
      if (taken.length > 0 && events + size > most) break
      taken.push(no)
      events += size
    }
    if (taken.length === 0) return []
    await tx.change(sql`update work set fence = fence + 1, leased_until = ${afterNow(leaseMs)} where no in ${taken}`)
    return tx.rows<ClaimedTelling>(
      sql`select no, fence, kind, failures, size, body, made_at as madeAt, utc_timestamp(3) as claimedAt
          from work where no in ${taken} order by no`,
    )
  })
}

/** Shows a sign of life for what this process still holds. */
export async function extendTellings(
  database: Pick<Database, 'change'>,
  claimed: readonly Held[],
  leaseMs: number,
): Promise<void> {
  const numbers = claimed.map(({ no }) => no)
  await database.change(
    sql`update work set leased_until = ${afterNow(leaseMs)} where no in ${numbers} and leased_until is not null`,
  )
}

/** Takes what was told out of the queue, whoever else may hold it by now. @param numbers at least one */
export const finishStatement = (numbers: readonly number[]): SQL => sql`delete from work where no in ${numbers}`

/** Gives back what nobody tried to tell, as it was. @param held at least one */
export const releaseStatement = (held: readonly Held[]): SQL =>
  sql`update work set leased_until = null where (no, fence) in (${tuples(held.map(({ no, fence }) => [no, fence]))})
        and no in ${held.map(({ no }) => no)}`

/** Gives back what is left of one: after a failure for a while, else as it was. */
export function giveBackStatement(
  { no, fence }: Held,
  left: { readonly body: Buffer; readonly size: number },
  failed?: { readonly failures: number; readonly afterMs: number },
): SQL {
  const later = failed ? sql`, failures = ${failed.failures}, due_at = ${afterNow(failed.afterMs)}` : sql``
  return sql`update work set leased_until = null, body = ${left.body}, size = ${left.size} ${later}
    where no = ${no} and fence = ${fence}`
}

/** How many events wait for each receiver. */
export async function countTellings(reader: Reader): Promise<ReadonlyMap<number, number>> {
  const rows = await reader.rows<{ no: number; events: string }>(
    sql`select subject_no as no, sum(size) as events from work force index (by_subject)
        where pool = 'telling' group by subject_no`,
  )
  return new Map(rows.map(({ no, events }) => [no, Number(events)]))
}

/** So many pieces are counted for whoever looks; more is “at least so many”. */
const countedPieces = 20_000

/** What waits for one. */
export type WaitingTellings = {
  readonly events: number
  /** False when there are more. */
  readonly isAll: boolean
  /** Of what is told next. */
  readonly since: Date | null
}

export async function waitingTellings(reader: Reader, receiverNo: number): Promise<WaitingTellings> {
  const [row] = await reader.rows<{ events: string | null; pieces: number; since: Date | null }>(
    sql`select sum(size) as events, count(*) as pieces,
          (select made_at from work force index (by_subject) where ${ofReceiver(receiverNo)} order by due_at limit 1) as since
        from (select size from work force index (by_subject) where ${ofReceiver(receiverNo)} limit ${countedPieces}) some`,
  )
  const { events = null, pieces = 0, since = null } = row ?? {}
  return { events: Number(events ?? 0), isAll: pieces < countedPieces, since }
}

/** What waits for another try is due now. */
export async function hurryTellings(database: Database, receiverNo: number): Promise<void> {
  await inSteps((limit) =>
    database.change(
      sql`update work set due_at = utc_timestamp(3)
          where ${ofReceiver(receiverNo)} and due_at > utc_timestamp(3) and leased_until is null limit ${limit}`,
    ),
  )
}

/** Throws away what waits for a receiver. @returns how many pieces */
export const dropSubject = (database: Database, receiverNo: number): Promise<number> =>
  inSteps((limit) => database.change(sql`delete from work where ${ofReceiver(receiverNo)} limit ${limit}`))

const stepRows = 2_000

async function inSteps(step: (limit: number) => Promise<{ affectedRows: number }>): Promise<number> {
  for (let all = 0; ; ) {
    const { affectedRows } = await step(stepRows)
    all += affectedRows
    if (affectedRows < stepRows) return all
  }
}

/** Throws away the oldest of what waits for a receiver, so many events or a few more. @returns how many went */
export async function dropOldest(
  database: Database,
  receiverNo: number,
  excess: number,
  noted: (tx: Tx, events: number) => Promise<void>,
): Promise<number> {
  let gone = 0
  while (gone < excess) {
    const step = await database.transact(async (tx) => {
      const oldest = await tx.rows<{ no: number; size: number }>(
        sql`select no, size from work where ${ofReceiver(receiverNo)} and coalesce(leased_until <= utc_timestamp(3), true)
            order by no limit ${stepRows} for update skip locked`,
      )
      const numbers: number[] = []
      let events = 0
      for (const { no, size } of oldest) {
        if (gone + events >= excess) break
        numbers.push(no)
        events += size
      }
      if (numbers.length > 0) await tx.change(finishStatement(numbers))
      if (events > 0) await noted(tx, events)
      return events
    })
    if (step === 0) return gone
    gone += step
  }
  return gone
}

/** Receivers with something that has waited for longer than so long, and how much of it. */
export async function overdueTellings(
  reader: Reader,
  olderThanMs: number,
): Promise<{ readonly no: number; readonly events: number }[]> {
  const rows = await reader.rows<{ no: number; events: string }>(
    sql`select subject_no as no, sum(size) as events from work
        where pool = 'telling' and made_at < utc_timestamp(3) - interval ${olderThanMs * 1_000} microsecond
          and coalesce(leased_until <= utc_timestamp(3), true)
        group by subject_no`,
  )
  return rows.map(({ no, events }) => ({ no, events: Number(events) }))
}
