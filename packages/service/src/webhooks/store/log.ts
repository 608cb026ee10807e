import { eq, type SQL, sql } from 'drizzle-orm'
import {
  build,
  type Database,
  now,
  present,
  type Reader,
  type RequestOutcome,
  select,
  type Tx,
  tuples,
  webhookLog,
  webhooks as webhooksTable,
} from '../../database/index.ts'
import { outboxStatement } from '../../events/index.ts'

/** A request as it is written down. */
export type NewEntry = {
  readonly message: string
  /** Of its events, where all are of one. */
  readonly kind: string | null
  readonly events: number
  readonly attempt: number
  readonly outcome: RequestOutcome
  readonly status: number | null
  readonly durationMs: number
  readonly says: string | null
  /** The beginning of what was answered. */
  readonly answer: string | null
  /** Somebody asked for it once more. */
  readonly again: boolean
  /** Its events, packed. */
  readonly body: Buffer | null
}

/** Writes requests down. @param entries at least one, each with its moment by the database’s clock */
export function logStatement(webhookNo: number, entries: readonly (NewEntry & { readonly atMs: number })[]): SQL {
  const rows = entries.map((one) => [
    webhookNo,
    new Date(one.atMs),
    one.message,
    one.kind,
    one.events,
    one.attempt,
    one.outcome,
    one.status,
    Math.round(one.durationMs),
    one.says?.slice(0, 300) ?? null,
    one.answer?.slice(0, 2_000) ?? null,
    one.again,
    one.body,
  ])
  return sql`insert into webhook_log (webhook_no, at, message, kind, events, attempt, outcome, status, duration_ms, says, answer,
      again, body) values ${tuples(rows)}`
}

export type LogRow = Omit<NewEntry, 'body' | 'again'> & {
  readonly no: number
  readonly at: Date
  readonly again: boolean
}

type RawRow = Omit<LogRow, 'again'> & { again: number }

const columns = sql`no, at, message, kind, events, attempt, outcome, status, duration_ms as durationMs, says, answer, again`
const rowOf = ({ again, ...rest }: RawRow): LogRow => ({ ...rest, again: again === 1 })

/** What is looked for in a log. */
export type LogFilter = { readonly outcome?: RequestOutcome | undefined; readonly kind?: string | undefined }

/** Newest first. @param before the number of the last one before */
export async function listLog(
  reader: Reader,
  webhookNo: number,
  { outcome, kind }: LogFilter,
  limit: number,
  before?: number,
): Promise<LogRow[]> {
  const rows = await reader.rows<RawRow>(
    sql`select ${columns} from webhook_log where webhook_no = ${webhookNo}
          ${before === undefined ? sql`` : sql`and no < ${before}`}
          ${outcome === undefined ? sql`` : sql`and outcome = ${outcome}`}
          ${kind === undefined ? sql`` : sql`and kind = ${kind}`}
        order by no desc limit ${limit}`,
  )
  return rows.map(rowOf)
}

export async function findEntry(
  reader: Reader,
  webhookNo: number,
  no: number,
): Promise<{ readonly row: LogRow; readonly body: Buffer | null } | undefined> {
  const [found] = await reader.rows<RawRow & { body: Buffer | null }>(
    sql`select ${columns}, body from webhook_log where webhook_no = ${webhookNo} and no = ${no}`,
  )
  if (!found) return undefined
  const { body, ...row } = found
  return { row: rowOf(row), body }
}

/** Puts events of one request into the queue once more. */
export async function replay(
  database: Database,
  webhookNo: number,
  events: { readonly size: number; readonly body: Buffer },
): Promise<void> {
  await database.change(outboxStatement(webhookNo, [{ kind: 'replay', ...events }]))
}

export type Span = {
  readonly from: Date
  readonly to: Date
  readonly outcome?: 'told' | 'given-up' | undefined
  readonly kind?: string | undefined
}

const rowsTogether = 200

/**
 * Puts into the queue once more what was told, or given up, in a span of time, page by page; what was itself told again is left
 * out, or it would be there twice.
 * @returns how many events
 */
export async function replaySpan(
  database: Database,
  webhookNo: number,
  { from, to, outcome, kind }: Span,
  maxEvents: number,
): Promise<{ readonly events: number; readonly isAll: boolean }> {
  let events = 0
  // By time, with the number beside it: what lies before the span is never read.
  for (let place = { at: from, no: 0 }; ; ) {
    const rows = await database.transact(async (tx) => {
      const found = await select(
        tx,
        { no: webhookLog.no, at: webhookLog.at, events: webhookLog.events, body: present(webhookLog.body) },
        sql`from ${webhookLog} force index (by_time) where ${webhookLog.webhookNo} = ${webhookNo}
            and ${webhookLog.at} >= ${place.at} and ${webhookLog.at} < ${to} and (${webhookLog.at} > ${place.at}
            or ${webhookLog.no} > ${place.no}) and ${webhookLog.again} = false and ${webhookLog.body} is not null
            and ${webhookLog.outcome} in ${outcome === undefined ? ['told', 'given-up'] : [outcome]} ${kind === undefined ? sql`` : sql`and kind = ${kind}`}
            order by ${webhookLog.at}, ${webhookLog.no} limit ${rowsTogether}`,
      )
      const works = found.map(({ events: size, body }) => ({ kind: 'replay' as const, size, body }))
      if (works.length > 0) await tx.change(outboxStatement(webhookNo, works))
      return found
    })
    events += rows.reduce((sum, row) => sum + row.events, 0)
    place = rows.at(-1) ?? place
    if (rows.length < rowsTogether) return { events, isAll: true }
    if (events >= maxEvents) return { events, isAll: false }
  }
}

const forgottenAtOnce = 1_000

/** Forgets what is older than so many days. */
export async function pruneLog(database: Database, days: number, mayGoOn: () => boolean): Promise<void> {
  while (mayGoOn()) {
    const { affectedRows } = await database.change(
      build
        .delete(webhookLog)
        .where(sql`${webhookLog.at} < utc_timestamp(3) - interval ${days} day`)
        .limit(forgottenAtOnce),
    )
    if (affectedRows < forgottenAtOnce) return
  }
}

/** Says that there was no room for some, and that they went. */
export async function noteDropped(tx: Tx, webhookNo: number, events: number, says: string): Promise<void> {
  await tx.change(
    build
      .update(webhooksTable)
      .set({ dropped: sql`${webhooksTable.dropped} + ${events}`, droppedAt: now })
      .where(eq(webhooksTable.no, webhookNo)),
  )
  await tx.change(
    build.insert(webhookLog).values({ webhookNo, at: now, message: '', events, attempt: 0, outcome: 'dropped', says }),
  )
}
