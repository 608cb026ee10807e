import { inArray, sql } from 'drizzle-orm'
import {
  build,
  computed,
  type Database,
  noneOf,
  select,
  type Tx,
  triggerEvents,
  type Where,
} from '../database/index.ts'

/** Who reports occurrences. */
export type Reporter =
  | { readonly is: 'server' }
  /** A source that made them from something else. */
  | { readonly is: 'source'; readonly no: number; readonly name: string }
  /** A device, about its own person. `proved`: whether the tie to its user was proved. */
  | { readonly is: 'device'; readonly no: number; readonly proved: boolean }

/** Something that happened, as it waits for the triggers of its app. */
export type WaitingEvent = Where & {
  readonly no: number
  /** 0 for what was reported to the service itself. */
  readonly sourceNo: number
  /** Nobody had looked for so long when it was found; 0 for what was found in time. */
  readonly lateSeconds: number
  readonly event: Readonly<Record<string, unknown>>
}

/**
 * Queues occurrences for triggers, in the transaction that stores them; none where no trigger of the app listens. Each event says who
 * reported it. Those of devices are queued only if a trigger asks for them.
 * @param numbers of the occurrences
 */
export async function queueOccurrences(
  tx: Tx,
  { appNo, environment }: Where,
  numbers: readonly number[],
  by: Reporter,
): Promise<void> {
  if (numbers.length === 0) return
  const names = ['occurrences', ...(by.is === 'source' ? [by.name] : [])]
  const hears = by.is === 'device' ? sql`and json_value(definition, '$.devices') = true` : sql``
  const listening = await tx.rows(
    sql`select 1 from triggers where app_no = ${appNo} and environment = ${environment} and source in ${names}
          and enabled = true ${hears} limit 1`,
  )
  if (listening.length === 0) return
  const reporter =
    by.is === 'device'
      ? sql`, 'user', convert(u.name using utf8mb4), 'proved', json_extract(if(o.proved, 'true', 'false'), '$')`
      : by.is === 'source'
        ? sql`, 'bySource', ${by.name}`
        : sql``
  // The columns differ in their collation, which an object of them may not.
  await tx.change(
    sql`insert into trigger_events (app_no, environment, source_no, event)
        select o.app_no, o.environment, ${by.is === 'source' ? by.no : 0}, json_object(
          'id', convert(o.id using utf8mb4), 'source', convert(o.source using utf8mb4),
          'type', convert(o.type using utf8mb4), 'time', date_format(o.at, '%Y-%m-%dT%H:%i:%s.%fZ'),
          'subject', convert(u.name using utf8mb4), 'data', json_extract(o.data, '$'), 'by', ${by.is}${reporter})
        from occurrences o left join users u on u.no = o.user_no
        where o.no in ${numbers} order by o.no`,
  )
}

/**
 * Of what waits the oldest of each source, so that one with a million rows holds up no other.
 * @param limit of all
 * @param but apps of which none are wanted
 */
export async function waitingEvents(
  database: Database,
  limit: number,
  but: readonly number[] = [],
): Promise<WaitingEvent[]> {
  const sources = await select(
    database,
    {
      appNo: triggerEvents.appNo,
      environment: triggerEvents.environment,
      sourceNo: triggerEvents.sourceNo,
      first: computed<Where & { sourceNo: number; first: number }['first']>(sql`min(${triggerEvents.no})`),
    },
    sql`from ${triggerEvents} force index (by_source) where ${noneOf(sql`app_no`, but)}
        group by ${triggerEvents.appNo}, ${triggerEvents.environment}, ${triggerEvents.sourceNo} order by first
        limit ${limit}`,
  )
  if (sources.length === 0) return []
  const each = Math.max(1, Math.floor(limit / sources.length))
  const some = sources.map(
    ({ appNo, environment, sourceNo }) =>
      sql`(select no, app_no as appNo, environment, source_no as sourceNo, late_seconds as lateSeconds, cast(event as char) as event
           from trigger_events force index (by_source)
           where app_no = ${appNo} and environment = ${environment} and source_no = ${sourceNo} order by no limit ${each})`,
  )
  const rows = await database.rows<Omit<WaitingEvent, 'event'> & { event: string }>(
    sql`${sql.join(some, sql` union all `)} order by no`,
  )
  return rows.map((row) => ({ ...row, event: JSON.parse(row.event) as WaitingEvent['event'] }))
}

/** Takes events in hand, until the transaction ends. @returns those that nobody else has taken */
export async function takeEvents(tx: Tx, numbers: readonly number[]): Promise<ReadonlySet<number>> {
  if (numbers.length === 0) return new Set()
  const rows = await select(
    tx,
    { no: triggerEvents.no },
    sql`from ${triggerEvents} where ${triggerEvents.no} in ${numbers} order by ${triggerEvents.no} for update skip locked`,
  )
  const taken = rows.map(({ no }) => no)
  if (taken.length > 0) await tx.change(build.delete(triggerEvents).where(inArray(triggerEvents.no, taken)))
  return new Set(taken)
}
