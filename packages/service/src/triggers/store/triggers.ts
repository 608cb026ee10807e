import { isDeepStrictEqual } from 'node:util'
import { wellFormedJson } from '@zbell/core'
import { eq, sql } from 'drizzle-orm'
import { settingsOf } from '../../apps/index.ts'
import {
  build,
  type Database,
  incoming,
  inScope,
  inWhere,
  leaveRows,
  named,
  now,
  type Reader,
  type RowOf,
  select,
  type Tx,
  triggers as table,
  type Where,
} from '../../database/index.ts'
import { publish } from '../../events/index.ts'

const columns = {
  no: table.no,
  appNo: table.appNo,
  environment: table.environment,
  name: table.name,
  version: table.version,
  definition: table.definition,
  enabled: table.enabled,
  /** A runaway was stopped, and why; it goes on when somebody says so. */
  pausedBecause: table.pausedBecause,
  busiest: table.busiest,
  /** Rows and events for which no case held. */
  unmatched: table.unmatched,
  madeBy: table.madeBy,
  changedAt: table.changedAt,
}
/** A trigger as it is kept. */
export type TriggerRow = RowOf<typeof columns>

/** Lists, finds and counts triggers. */
export const triggerStore = named(table, columns)

/** Those that are switched on for a source and not paused. */
export const triggersOfSource = (reader: Reader, where: Where, source: string): Promise<TriggerRow[]> =>
  triggerStore.select(reader, sql`where ${inScope(table, where)} and source = ${source} and enabled = true order by no`)

/** Saves one under its name; a change is another version, and the one before is kept. What says the same is none. */
export async function saveTrigger(
  database: Database,
  { appNo, environment }: Where,
  given: Pick<TriggerRow, 'name' | 'definition' | 'madeBy'> & {
    /** Left out: as it is; a new one is off. */
    readonly enabled?: boolean | undefined
  },
): Promise<void> {
  const definition = JSON.parse(wellFormedJson(given.definition)) as TriggerRow['definition']
  await database.transact(async (tx) => {
    const kept = await triggerStore.find(tx, { appNo, environment }, given.name)
    if (kept && isDeepStrictEqual(kept.definition, definition)) {
      if (given.enabled !== undefined)
        await tx.change(build.update(table).set({ enabled: given.enabled }).where(eq(table.no, kept.no)))
      return
    }
    await tx.change(
      build
        .insert(table)
        .values({
          appNo,
          environment,
          name: given.name,
          definition,
          source: given.definition.source,
          enabled: given.enabled ?? false,
          hourAt: sql`utc_timestamp()`,
          madeBy: given.madeBy,
          changedAt: now,
        })
        .onDuplicateKeyUpdate({
          set: {
            no: sql`last_insert_id(${table.no})`,
            version: sql`${table.version} + 1`,
            definition: incoming(table.definition),
            source: incoming(table.source),
            enabled: given.enabled ?? sql`enabled`,
            madeBy: incoming(table.madeBy),
            changedAt: incoming(table.changedAt),
          },
        }),
    )
    await tx.change(
      sql`insert into trigger_versions (trigger_no, version, definition, made_by, made_at)
          select no, version, definition, made_by, changed_at from triggers
          where app_no = ${appNo} and environment = ${environment} and name = ${given.name}`,
    )
  })
}

/** Switches one on or off. One that was paused is not any more, and its firings of this hour are counted anew. */
export async function enableTrigger(database: Database, no: number, enabled: boolean): Promise<void> {
  await database.change(
    sql`update triggers set enabled = ${enabled}, hour_count = if(paused_because is null, hour_count, 0), paused_because = null,
          changed_at = utc_timestamp(3) where no = ${no}`,
  )
}

export async function deleteTrigger(database: Database, no: number): Promise<void> {
  await database.transact(async (tx) => {
    await tx.change(build.delete(table).where(eq(table.no, no)))
    await leaveRows(tx, 'trigger', [no])
  })
}

/**
 * Takes triggers in hand until the transaction ends. Done before anything else is read: what is read from then on is all that others
 * have stored for them.
 */
export async function lockTriggers(tx: Tx, numbers: readonly number[]): Promise<void> {
  if (numbers.length > 0) await tx.rows(sql`select no from triggers where no in ${numbers} order by no for update`)
}

/** More than so many times its busiest hour so far, and more than the app’s floor, is a runaway. */
const runawayTimes = 10

/** How often a trigger may fire within an hour. @param floor the app's */
export const maxAnHour = (busiest: number, floor: number): number => Math.max(floor, busiest * runawayTimes)

/** A trigger in hand until the transaction ends, as it stands now. @returns undefined for one that has gone */
export async function lockTrigger(
  tx: Tx,
  no: number,
): Promise<
  | (HourCounts & { readonly enabled: boolean; readonly pausedBecause: string | null; readonly floor: number })
  | undefined
> {
  const [row] = await tx.rows<{
    enabled: number
    pausedBecause: string | null
    hourCount: number
    hourUnmatched: number
    hourUnrung: number
    busiest: number
    isNow: number
    environment: Where['environment']
    settings: unknown
  }>(
    sql`select enabled, t.environment, paused_because as pausedBecause, hour_count as hourCount,
          hour_unmatched as hourUnmatched, hour_unrung as hourUnrung, busiest,
          hour_at = date_format(utc_timestamp(), '%Y-%m-%d %H:00:00') as isNow,
          (select s.settings from app_settings s where s.app_no = t.app_no and s.environment = t.environment) as settings
        from triggers t where no = ${no} for update`,
  )
  if (!row) return undefined
  const { enabled, pausedBecause, hourCount, hourUnmatched, hourUnrung, busiest, isNow, settings, environment } = row
  return {
    enabled: enabled === 1,
    pausedBecause,
    hourCount: isNow === 1 ? hourCount : 0,
    hourUnmatched: isNow === 1 ? hourUnmatched : 0,
    hourUnrung: isNow === 1 ? hourUnrung : 0,
    busiest: isNow === 1 ? busiest : Math.max(busiest, hourCount),
    floor: settingsOf(settings, environment).runawayFloor,
  }
}

/** What a trigger did within this hour. */
type HourCounts = {
  /** Firings that rang or wait. */
  readonly hourCount: number
  /** Rows and events for which no case held. */
  readonly hourUnmatched: number
  /** Firings that were not to ring, or could not. */
  readonly hourUnrung: number
  /** The firings of the busiest hour before, which a runaway is measured by. */
  readonly busiest: number
}

/** @param unmatched rows and events more for which no case held */
export async function countFirings(
  tx: Tx,
  no: number,
  { hourCount, hourUnmatched, hourUnrung, busiest }: HourCounts,
  unmatched: number,
): Promise<void> {
  await tx.change(
    build
      .update(table)
      .set({
        hourAt: sql`date_format(utc_timestamp(), '%Y-%m-%d %H:00:00')`,
        hourCount,
        hourUnmatched,
        hourUnrung,
        busiest,
        unmatched: sql`${table.unmatched} + ${unmatched}`,
      })
      .where(eq(table.no, no)),
  )
}

export async function pauseTrigger(tx: Tx, no: number, because: string): Promise<void> {
  await tx.change(
    build
      .update(table)
      .set({ pausedBecause: because.slice(0, 300) })
      .where(eq(table.no, no)),
  )
  const [row] = await select(
    tx,
    { appNo: table.appNo, environment: table.environment, name: table.name },
    sql`from ${table} where ${table.no} = ${no}`,
  )
  if (row)
    await publish(tx, row, ['trigger.paused'], () => [
      { kind: 'trigger.paused', subject: row.name, data: { trigger: row.name, because } },
    ])
}

/** Triggers that were stopped as runaways, for those who watch. */
export const pausedTriggers = (reader: Reader, where: Where): Promise<{ name: string; because: string }[]> =>
  reader.rows(
    sql`select name, paused_because as because from triggers where ${inWhere(where)} and enabled = true
          and paused_because is not null order by name limit 20`,
  )

/** Triggers whose last firing, within a day, could not ring. */
export const faultyTriggers = (reader: Reader, where: Where): Promise<{ name: string; because: string }[]> =>
  reader.rows(
    sql`select t.name, f.says as because
        from triggers t join firings f on f.no = (select max(l.no) from firings l where l.trigger_no = t.no)
        where t.app_no = ${where.appNo} and t.environment = ${where.environment} and t.enabled = true
          -- Firings without a key say that a source is away, which it says by itself.
          and f.state = 'fault' and f.key_text <> '' and f.fired_at > utc_timestamp(3) - interval 1 day
        order by t.name limit 20`,
  )
