import { inArray, sql } from 'drizzle-orm'
import { build, type Database, devices, select, type Tx } from '../../database/index.ts'
import { pruneAnonymous } from './ensure-user.ts'

/** So many go in one transaction. */
const batchSize = 500
/** Tables of which a device's rows go with it. */
const ownedByDevice = [
  sql`device_events`,
  sql`device_tokens`,
  sql`topic_devices`,
  sql`channel_blocks`,
  sql`former_devices`,
]

/** Devices that could not be rung for so long, with all that was theirs alone: events, tokens, topics, and people without a name. */
export async function pruneDevices(database: Database, days: number, mayGoOn: () => boolean): Promise<void> {
  while (mayGoOn()) {
    const gone = await database.transact(async (tx) => {
      const old = await select(
        tx,
        { no: devices.no, userNo: devices.userNo },
        sql`from ${devices} where ${devices.retiredAt} < utc_timestamp(3) - interval ${days} day
            order by ${devices.retiredAt} limit ${batchSize} for update`,
      )
      if (old.length > 0) await forget(tx, old)
      return old.length
    })
    if (gone < batchSize) return
  }
}

async function forget(tx: Tx, old: readonly { no: number; userNo: number | null }[]): Promise<void> {
  const numbers = old.map(({ no }) => no)
  for (const table of ownedByDevice) await tx.change(sql`delete from ${table} where device_no in ${numbers}`)
  await tx.change(build.delete(devices).where(inArray(devices.no, numbers)))
  const people = [...new Set(old.flatMap(({ userNo }) => userNo ?? []))]
  if (people.length === 0) return
  const alone = await tx.rows<{ no: number }>(
    sql`select u.no from users u where u.no in ${people} and u.name is null
          and not exists (select 1 from devices d where d.user_no = u.no)`,
  )
  for (const { no } of alone) await pruneAnonymous(tx, no)
}
