import { type RecordedExchange, wellFormedJson } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'
import {
  build,
  computed,
  type Database,
  type GatewayPlace,
  gatewayExchanges,
  gatewayRecordings,
  incoming,
  inWhere,
  now,
  type Reader,
  select,
} from '../../database/index.ts'

const inPlace = (place: GatewayPlace): SQL => sql`${inWhere(place)} and platform = ${place.platform}`

/** Begins a recording; what was recorded before is forgotten. */
export const startRecording = (database: Database, place: GatewayPlace, seconds: number): Promise<void> =>
  database.transact(async (tx) => {
    await tx.change(build.delete(gatewayExchanges).where(inPlace(place)))
    await tx.change(
      build
        .insert(gatewayRecordings)
        .values({
          appNo: place.appNo,
          environment: place.environment,
          platform: place.platform,
          until: sql`utc_timestamp(3) + interval ${seconds} second`,
        })
        .onDuplicateKeyUpdate({ set: { until: incoming(gatewayRecordings.until) } }),
    )
  })

/** Ends a recording and forgets it. */
export const endRecording = (database: Database, place: GatewayPlace): Promise<void> =>
  database.transact(async (tx) => {
    await tx.change(build.delete(gatewayRecordings).where(inPlace(place)))
    await tx.change(build.delete(gatewayExchanges).where(inPlace(place)))
  })

/** For how many more milliseconds a gateway is recorded; 0 when it is not. */
export async function recordedForMs(reader: Reader, place: GatewayPlace): Promise<number> {
  const [row] = await select(
    reader,
    {
      leftMs: computed<string | null>(
        sql`timestampdiff(microsecond, utc_timestamp(3), ${gatewayRecordings.until}) div 1000`,
      ),
    },
    sql`from ${gatewayRecordings} where ${inPlace(place)}`,
  )
  return Math.max(0, Number(row?.leftMs ?? 0))
}

/** Until when a gateway is recorded; `undefined` when that is over or it never was. */
export async function recordedUntil(reader: Reader, place: GatewayPlace): Promise<Date | undefined> {
  const [row] = await select(
    reader,
    { until: gatewayRecordings.until },
    sql`from ${gatewayRecordings} where ${inPlace(place)} and ${gatewayRecordings.until} > utc_timestamp(3)`,
  )
  return row?.until
}

/**
 * Keeps exchanges of a recording that goes on and is not full; nothing of one that has ended.
 * @param most so many in all; then it ends
 * @returns whether there is room for more
 */
export const keepExchanges = (
  database: Database,
  place: GatewayPlace,
  exchanges: readonly RecordedExchange[],
  most: number,
): Promise<boolean> =>
  database.transact(async (tx) => {
    const [on] = await tx.rows(
      sql`select until from gateway_recordings where ${inPlace(place)} and until > utc_timestamp(3) for update`,
    )
    if (!on) return false
    const [{ kept } = { kept: 0 }] = await select(
      tx,
      { kept: computed<number>(sql`count(*)`) },
      sql`from ${gatewayExchanges} where ${inPlace(place)}`,
    )
    const room = Math.max(0, most - Number(kept))
    for (const exchange of exchanges.slice(0, room))
      await tx.change(
        build.insert(gatewayExchanges).values({
          appNo: place.appNo,
          environment: place.environment,
          platform: place.platform,
          exchange: wellFormedJson(exchange),
        }),
      )
    if (exchanges.length < room) return true
    await tx.change(build.update(gatewayRecordings).set({ until: now }).where(inPlace(place)))
    return false
  })

export async function recordedExchanges(reader: Reader, place: GatewayPlace): Promise<RecordedExchange[]> {
  const rows = await select(
    reader,
    { exchange: gatewayExchanges.exchange },
    sql`from ${gatewayExchanges} where ${inPlace(place)} order by ${gatewayExchanges.no} limit 1000`,
  )
  return rows.map(({ exchange }) => JSON.parse(exchange) as RecordedExchange)
}

/** Recordings hold what people were sent: so long after their end they are forgotten. */
export async function pruneRecordings(database: Database, afterHours: number): Promise<void> {
  const over = sql`until < utc_timestamp(3) - interval ${afterHours} hour`
  await database.transact(async (tx) => {
    await tx.change(
      sql`delete gateway_exchanges from gateway_exchanges join gateway_recordings using (app_no, environment, platform) where ${over}`,
    )
    await tx.change(build.delete(gatewayRecordings).where(over))
  })
}
