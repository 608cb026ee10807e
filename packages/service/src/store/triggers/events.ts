import { sql } from 'drizzle-orm'
import type { Where } from '../apps/where.ts'
import type { Database, Tx } from '../database.ts'

/** Something that happened, as it waits for the triggers of its app. */
export type WaitingEvent = Where & { readonly no: number; readonly event: Readonly<Record<string, unknown>> }

/**
 * Lets what happened wait for triggers, in the transaction that keeps it; nothing where no trigger of the app listens.
 * @param numbers of the occurrences
 */
export async function leaveEvents(tx: Tx, { appNo, environment }: Where, numbers: readonly number[]): Promise<void> {
  if (numbers.length === 0) return
  const listening = await tx.rows(
    sql`select 1 from triggers where app_no = ${appNo} and environment = ${environment} and source = 'occurrences' and enabled = true limit 1`,
  )
  if (listening.length === 0) return
  // The columns differ in their collation, which an object of them may not.
  await tx.change(
    sql`insert into trigger_events (app_no, environment, event)
        select o.app_no, o.environment, json_object(
          'id', convert(o.id using utf8mb4), 'source', convert(o.source using utf8mb4),
          'type', convert(o.type using utf8mb4), 'time', date_format(o.at, '%Y-%m-%dT%H:%i:%s.%fZ'),
          'subject', convert(u.name using utf8mb4), 'data', json_extract(o.data, '$'))
        from occurrences o left join users u on u.no = o.user_no
        where o.no in ${numbers} order by o.no`,
  )
}

/** The oldest that wait. */
export async function waitingEvents(database: Database, limit: number): Promise<WaitingEvent[]> {
  const rows = await database.rows<Omit<WaitingEvent, 'event'> & { event: string }>(
    sql`select no, app_no as appNo, environment, cast(event as char) as event from trigger_events order by no limit ${limit}`,
  )
  return rows.map((row) => ({ ...row, event: JSON.parse(row.event) as WaitingEvent['event'] }))
}

/** Takes events in hand, until the transaction ends. @returns those that nobody else has taken */
export async function takeEvents(tx: Tx, numbers: readonly number[]): Promise<ReadonlySet<number>> {
  const rows = await tx.rows<{ no: number }>(
    sql`select no from trigger_events where no between ${numbers[0] ?? 0} and ${numbers.at(-1) ?? 0} for update skip locked`,
  )
  const taken = rows.map(({ no }) => no).filter((no) => numbers.includes(no))
  if (taken.length > 0) await tx.change(sql`delete from trigger_events where no in ${taken}`)
  return new Set(taken)
}
