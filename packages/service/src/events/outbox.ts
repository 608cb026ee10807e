import { and, eq, inArray, isNotNull, type SQL, sql } from 'drizzle-orm'
import {
  afterNow,
  build,
  type Change,
  commas,
  computed,
  type Database,
  isFree,
  now,
  type OutboxKind,
  outbox,
  type Reader,
  select,
  type Tx,
  tuples,
} from '../database/index.ts'

/** Which entry, as of which claim. */
type Claim = { readonly no: number; readonly fence: number }

/** Events that wait for a webhook, leased by this process. */
export type OutboxEntry = Claim & {
  readonly kind: OutboxKind
  readonly failures: number
  readonly size: number
  readonly body: Buffer
  readonly createdAt: Date
  /** The database’s clock when it was claimed. */
  readonly claimedAt: Date
}

const isDue = sql`due_at <= utc_timestamp(3) and ${isFree(sql`leased_until`)}`
const ofWebhook = (no: number): SQL => sql`webhook_no = ${no}`

/** What puts events into the outbox for a webhook. @param entries at least one */
export const outboxStatement = (
  webhookNo: number,
  entries: readonly {
    readonly kind: OutboxKind
    readonly size: number
    readonly body: Buffer
    readonly failures?: number
    /** Since when the events wait; now, when left out. */
    readonly createdAt?: Date
  }[],
): SQL =>
  sql`insert into outbox (webhook_no, kind, size, body, failures, due_at, created_at) values ${commas(
    entries.map(
      ({ kind, size, body, failures = 0, createdAt }) =>
        sql`(${webhookNo}, ${kind}, ${size}, ${body}, ${failures}, utc_timestamp(3), ${createdAt ?? sql`utc_timestamp(3)`})`,
    ),
  )}`

/**
 * Webhooks for which something is due and whose circuit lets it through: one of each app before a second one of any, else in no
 * order, so that each has its turn. It costs a lookup in the index for each of them, however much waits; and a single one while
 * nothing is due at all.
 * @param besides those that this process dispatches to already
 */
export function dueWebhooks(
  reader: Reader,
  { besides, most }: { readonly besides: readonly number[]; readonly most: number },
): Promise<{ no: number; appNo: number }[]> {
  const others = besides.length > 0 ? sql`and w.no not in ${besides}` : sql``
  return reader.rows(
    sql`select w.no, w.app_no as appNo, row_number() over (partition by w.app_no order by rand()) as place from webhooks w
        where exists (select 1 from outbox force index (by_due) where due_at <= utc_timestamp(3))
          and w.enabled = true and coalesce(w.backoff_until <= utc_timestamp(3), true) ${others}
          and (select 1 from outbox force index (by_webhook) where webhook_no = w.no and ${isDue} limit 1) = 1
        order by place, rand() limit ${most}`,
  )
}

/**
 * Claims what has waited longest for a receiver.
 * @param most events, unless the first piece alone has more @param held what this process has already
 */
export function claimEntries(
  database: Database,
  webhookNo: number,
  { most, entries, leaseMs, held }: { most: number; entries: number; leaseMs: number; held: readonly number[] },
): Promise<OutboxEntry[]> {
  return database.transact(async (tx) => {
    const notHeld = held.length > 0 ? sql`and no not in ${held}` : sql``
    const due = await select(
      tx,
      { no: outbox.no, size: outbox.size },
      sql`from ${outbox} force index (by_webhook) where ${ofWebhook(webhookNo)} and ${isDue} ${notHeld}
          order by ${outbox.dueAt} limit ${entries} for update skip locked`,
    )
    const claimed: number[] = []
    let events = 0
    for (const { no, size } of due) {
      if (claimed.length > 0 && events + size > most) break
      claimed.push(no)
      events += size
    }
    if (claimed.length === 0) return []
    await tx.change(
      build
        .update(outbox)
        .set({ fence: sql`${outbox.fence} + 1`, leasedUntil: afterNow(leaseMs) })
        .where(inArray(outbox.no, claimed)),
    )
    return select(
      tx,
      {
        no: outbox.no,
        fence: outbox.fence,
        kind: outbox.kind,
        failures: outbox.failures,
        size: outbox.size,
        body: outbox.body,
        createdAt: outbox.createdAt,
        claimedAt: computed<OutboxEntry['claimedAt']>(sql`utc_timestamp(3)`),
      },
      sql`from ${outbox} where ${outbox.no} in ${claimed} order by ${outbox.no}`,
    )
  })
}

/** Shows a sign of life for what this process still holds. */
export async function extendEntries(
  database: Pick<Database, 'change'>,
  claimed: readonly Claim[],
  leaseMs: number,
): Promise<boolean> {
  const numbers = claimed.map(({ no }) => no)
  const { affectedRows } = await database.change(
    build
      .update(outbox)
      .set({ leasedUntil: afterNow(leaseMs) })
      .where(and(inArray(outbox.no, numbers), isNotNull(outbox.leasedUntil))),
  )
  return affectedRows > 0
}

/** Takes out what was delivered, whoever else may hold it by now. @param numbers at least one */
export const finishStatement = (numbers: readonly number[]): Change =>
  build.delete(outbox).where(inArray(outbox.no, numbers))

/** Releases what was not tried, as it was. @param held at least one */
export const releaseStatement = (held: readonly Claim[]): Change =>
  build
    .update(outbox)
    .set({ leasedUntil: null })
    .where(
      sql`(${outbox.no}, ${outbox.fence}) in (${tuples(held.map(({ no, fence }) => [no, fence]))})
        and ${outbox.no} in ${held.map(({ no }) => no)}`,
    )

/** Gives back what is left of one: after a failure for a while, else as it was. */
export function putBackStatement(
  { no, fence }: Claim,
  left: { readonly body: Buffer; readonly size: number },
  failed?: { readonly failures: number; readonly afterMs: number },
): Change {
  const later = failed && { failures: failed.failures, dueAt: afterNow(failed.afterMs) }
  return build
    .update(outbox)
    .set({ leasedUntil: null, ...left, ...later })
    .where(and(eq(outbox.no, no), eq(outbox.fence, fence)))
}

/** How many events wait for each receiver. */
export async function countOutbox(reader: Reader): Promise<ReadonlyMap<number, number>> {
  const rows = await select(
    reader,
    { no: outbox.webhookNo, events: computed<string>(sql`sum(${outbox.size})`) },
    sql`from ${outbox} force index (by_webhook) group by ${outbox.webhookNo}`,
  )
  return new Map(rows.map(({ no, events }) => [no, Number(events)]))
}

/** So many entries are counted for whoever looks; more is “at least so many”. */
const countedEntries = 20_000

/** What waits for one. */
export type OutboxState = {
  readonly events: number
  /** False when there are more. */
  readonly isAll: boolean
  /** Of what is delivered next. */
  readonly since: Date | null
}

export async function outboxState(reader: Reader, webhookNo: number): Promise<OutboxState> {
  const [row] = await reader.rows<{ events: string | null; entries: number; since: Date | null }>(
    sql`select sum(size) as events, count(*) as entries,
          (select created_at from outbox force index (by_webhook) where ${ofWebhook(webhookNo)} order by due_at limit 1) as since
        from (select size from outbox force index (by_webhook) where ${ofWebhook(webhookNo)} limit ${countedEntries}) some`,
  )
  const { events = null, entries = 0, since = null } = row ?? {}
  return { events: Number(events ?? 0), isAll: entries < countedEntries, since }
}

/** What waits for another try is due now. */
export async function makeEntriesDue(database: Database, webhookNo: number): Promise<void> {
  await inSteps((limit) =>
    database.change(
      build
        .update(outbox)
        .set({ dueAt: now })
        .where(sql`${ofWebhook(webhookNo)} and ${outbox.dueAt} > utc_timestamp(3) and ${outbox.leasedUntil} is null`)
        .limit(limit),
    ),
  )
}

/** Throws away what waits for a receiver. @returns how many entries */
export const pruneOutboxOf = (database: Database, webhookNo: number): Promise<number> =>
  inSteps((limit) => database.change(build.delete(outbox).where(ofWebhook(webhookNo)).limit(limit)))

const stepRows = 2_000

async function inSteps(step: (limit: number) => Promise<{ affectedRows: number }>): Promise<number> {
  for (let all = 0; ; ) {
    const { affectedRows } = await step(stepRows)
    all += affectedRows
    if (affectedRows < stepRows) return all
  }
}

/** Throws away the oldest of what waits for a receiver, so many events or a few more. @returns how many went */
export async function pruneOldest(
  database: Database,
  webhookNo: number,
  excess: number,
  noted: (tx: Tx, events: number) => Promise<void>,
): Promise<number> {
  let gone = 0
  while (gone < excess) {
    const step = await database.transact(async (tx) => {
      const oldest = await select(
        tx,
        { no: outbox.no, size: outbox.size },
        sql`from ${outbox} where ${ofWebhook(webhookNo)} and ${isFree(sql`leased_until`)} order by ${outbox.no}
            limit ${stepRows} for update skip locked`,
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
export async function overdueEntries(
  reader: Reader,
  olderThanMs: number,
): Promise<{ readonly no: number; readonly events: number }[]> {
  const rows = await select(
    reader,
    { no: outbox.webhookNo, events: computed<string>(sql`sum(${outbox.size})`) },
    sql`from ${outbox} where ${outbox.createdAt} < utc_timestamp(3) - interval ${olderThanMs * 1_000} microsecond
        and ${isFree(sql`leased_until`)} group by ${outbox.webhookNo}`,
  )
  return rows.map(({ no, events }) => ({ no, events: Number(events) }))
}
