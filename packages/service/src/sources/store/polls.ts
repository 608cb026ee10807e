import { randomBytes } from 'node:crypto'
import { wellFormedJson } from '@zbell/core'
import { and, eq, sql } from 'drizzle-orm'
import {
  build,
  commas,
  computed,
  type Database,
  incoming,
  noneOf,
  type Reader,
  select,
  sourcePages,
  sources,
  type Tx,
  type Where,
} from '../../database/index.ts'

/** A source that this process polls, for as long as its lease runs. */
export type SourceLease = { readonly no: number; readonly owner: Buffer }

/** A poll that was given up, because somebody else has the source or it is another one by now. */
export class LeaseLost extends Error {
  override readonly name = 'LeaseLost'
}

/** A source that is due. */
export type DueSource = {
  readonly no: number
  readonly appNo: number
  /** It could not be read last time. */
  readonly isAtFault: boolean
}

/** So many that are due are looked through for those which may be polled now. */
const lookedThrough = 500

/** Sources that are due and that nobody has, the longest due first. @param but apps of which none is wanted */
export async function dueSources(database: Database, but: readonly number[]): Promise<DueSource[]> {
  const rows = await select(
    database,
    { no: sources.no, appNo: sources.appNo, isAtFault: computed<number>(sql`${sources.fault} is not null`) },
    sql`from ${sources} where ${sources.nextPollAt} <= utc_timestamp(3) and (${sources.leasedUntil} is null
        or ${sources.leasedUntil} < utc_timestamp(3)) and ${sources.kind} <> 'incoming'
        and ${noneOf(sql`app_no`, but)} order by ${sources.nextPollAt} limit ${lookedThrough}`,
  )
  return rows.map((row) => ({ ...row, isAtFault: row.isAtFault === 1 }))
}

/** Takes one, due or not unless it has to be. @returns undefined while somebody else has it, or had it meanwhile */
export async function leaseSource(
  database: Database,
  no: number,
  leaseMs: number,
  { ifDue = false } = {},
): Promise<SourceLease | undefined> {
  const owner = randomBytes(16)
  const { affectedRows } = await database.change(
    build
      .update(sources)
      .set({ lease: owner, leasedUntil: sql`utc_timestamp(3) + interval ${leaseMs * 1_000} microsecond` })
      .where(
        sql`${sources.no} = ${no} and (${sources.leasedUntil} is null
          or ${sources.leasedUntil} < utc_timestamp(3)) ${ifDue ? sql`and next_poll_at <= utc_timestamp(3)` : sql``}`,
      ),
  )
  return affectedRows === 1 ? { no, owner } : undefined
}

/** @returns false when it is not this process’s any more */
export async function extendSourceLease(
  database: Database,
  { no, owner }: SourceLease,
  leaseMs: number,
): Promise<boolean> {
  const { affectedRows } = await database.change(
    build
      .update(sources)
      .set({ leasedUntil: sql`utc_timestamp(3) + interval ${leaseMs * 1_000} microsecond` })
      .where(and(eq(sources.no, no), eq(sources.lease, owner))),
  )
  return affectedRows === 1
}

/** A source in hand until the transaction ends. @throws {LeaseLost} */
export async function requireLease(tx: Tx, { no, owner }: SourceLease): Promise<void> {
  const rows = await tx.rows(sql`select 1 from sources where no = ${no} and lease = ${owner} for update`)
  if (rows.length === 0) throw new LeaseLost(`source ${no} was taken by another poll or changed`)
}

/** How far a poll by cursor has come. */
export async function readState(reader: Reader, no: number): Promise<Buffer | null> {
  const [row] = await select(reader, { state: sources.state }, sql`from ${sources} where ${sources.no} = ${no}`)
  return row?.state ?? null
}

export const keepState = (tx: Tx, no: number, state: Buffer) =>
  tx.change(build.update(sources).set({ state }).where(eq(sources.no, no)))

/** What a poll ends with. */
export type PollResult = {
  readonly everySeconds: number
  /** Types of its columns by name, when its state was taken in. */
  readonly columns?: Readonly<Record<string, string>> | undefined
  /** Left as it is when undefined. */
  readonly note?: string | undefined
  /** Rows that could not be taken. */
  readonly leftOut?: string | undefined
}

/** A poll that went well: the next one is due after its interval. */
export async function endPoll(
  tx: Tx,
  { no, owner }: SourceLease,
  { everySeconds, columns, note, leftOut }: PollResult,
): Promise<void> {
  await tx.change(
    sql`update sources set taken = true, fault = null, fault_since = null, faults = 0, polled_at = utc_timestamp(3), lease = null,
          leased_until = null, next_poll_at = utc_timestamp(3) + interval ${everySeconds} second,
          left_out = ${leftOut?.slice(0, 300) ?? null}
          ${columns === undefined ? sql`` : sql`, columns = ${wellFormedJson(columns)}`}
          ${note === undefined ? sql`` : sql`, note = ${note.slice(0, 300)}`}
        where no = ${no} and lease = ${owner}`,
  )
}

/** Gives a source back without having polled it. */
export const releaseSource = (database: Database, { no, owner }: SourceLease, afterMs: number) =>
  database.change(
    build
      .update(sources)
      .set({
        lease: null,
        leasedUntil: null,
        nextPollAt: sql`utc_timestamp(3) + interval ${afterMs * 1_000} microsecond`,
      })
      .where(and(eq(sources.no, no), eq(sources.lease, owner))),
  )

/**
 * A poll that failed.
 * @returns how often it has failed in a row, and since when; undefined when it is not this process’s any more
 */
export async function failPoll(
  database: Database,
  { no, owner }: SourceLease,
  { fault, afterMs }: { readonly fault: string; readonly afterMs: number },
): Promise<number | undefined> {
  return database.transact(async (tx) => {
    const [row] = await select(
      tx,
      { faults: sources.faults },
      sql`from ${sources} where ${sources.no} = ${no} and ${sources.lease} = ${owner} for update`,
    )
    if (!row) return undefined
    await tx.change(
      build
        .update(sources)
        .set({
          fault: fault.slice(0, 300),
          faultSince: sql`coalesce(${sources.faultSince}, utc_timestamp(3))`,
          faults: sql`${sources.faults} + 1`,
          lease: null,
          leasedUntil: null,
          nextPollAt: sql`utc_timestamp(3) + interval ${afterMs * 1_000} microsecond`,
        })
        .where(eq(sources.no, no)),
    )
    return row.faults + 1
  })
}

export type PageRow = { readonly page: number; readonly digest: Buffer }

/** Which pages of a source’s last state there are. */
export const pageDigests = (reader: Reader, no: number): Promise<PageRow[]> =>
  select(
    reader,
    { page: sourcePages.page, digest: sourcePages.digest },
    sql`from ${sourcePages} where ${sourcePages.sourceNo} = ${no}`,
  )

export async function readPage(reader: Reader, no: number, page: number): Promise<Buffer | undefined> {
  const [row] = await select(
    reader,
    { packed: sourcePages.packed },
    sql`from ${sourcePages} where ${sourcePages.sourceNo} = ${no} and ${sourcePages.page} = ${page}`,
  )
  return row?.packed
}

export const storePage = (tx: Tx, no: number, page: number, digest: Buffer, packed: Buffer) =>
  tx.change(
    build
      .insert(sourcePages)
      .values({ sourceNo: no, page, digest, packed })
      .onDuplicateKeyUpdate({ set: { digest: incoming(sourcePages.digest), packed: incoming(sourcePages.packed) } }),
  )

export const prunePages = (tx: Tx, no: number) =>
  tx.change(build.delete(sourcePages).where(eq(sourcePages.sourceNo, no)))

/** So many go in one statement, of so many characters; the server takes 16 MB. */
const batchSize = { rows: 500, chars: 4_000_000 }

/** Lets what a source found wait for its triggers. @param late for so many seconds it was not polled */
export async function queueChanges(
  tx: Tx,
  { appNo, environment }: Where,
  sourceNo: number,
  found: readonly unknown[],
  late: number,
): Promise<void> {
  let [texts, chars]: [string[], number] = [[], 0]
  const flush = async () => {
    const rows = texts.map((text) => sql`(${appNo}, ${environment}, ${sourceNo}, ${late}, ${text})`)
    ;[texts, chars] = [[], 0]
    if (rows.length > 0)
      await tx.change(
        sql`insert into trigger_events (app_no, environment, source_no, late_seconds, event) values ${commas(rows)}`,
      )
  }
  for (const one of found) {
    const text = wellFormedJson(one)
    if (texts.length === batchSize.rows || chars + text.length > batchSize.chars) await flush()
    texts.push(text)
    chars += text.length
  }
  await flush()
}

/** How much of a source waits for its triggers. @param most as far as it is counted */
export async function countQueued(reader: Reader, where: Where, sourceNo: number, most: number): Promise<number> {
  const [row] = await reader.rows<{ count: number }>(
    sql`select count(*) as count from (select 1 from trigger_events where app_no = ${where.appNo}
          and environment = ${where.environment} and source_no = ${sourceNo} limit ${most}) as some`,
  )
  return row?.count ?? 0
}

/** Whether a trigger that is switched on reads a source. */
export async function isRead(reader: Reader, { appNo, environment }: Where, source: string): Promise<boolean> {
  const rows = await reader.rows(
    sql`select 1 from triggers where app_no = ${appNo} and environment = ${environment} and source = ${source} and enabled = true limit 1`,
  )
  return rows.length > 0
}
