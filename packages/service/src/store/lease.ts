import type { Database } from './database.ts'

/**
 * Takes or renews a lease by its name: a row rather than a lock of the server, which a Galera cluster does not have.
 * @returns false while somebody else has it
 */
export async function takeLease(database: Database, name: string, owner: Buffer, seconds: number): Promise<boolean> {
  await database.change("insert ignore into leases values (?, repeat('\\0', 16), utc_timestamp(3))", [name])
  const { affectedRows } = await database.change(
    `update leases set owner = ?, until_at = utc_timestamp(3) + interval ? second
     where name = ? and (until_at <= utc_timestamp(3) or owner = ?)`,
    [owner, seconds, name, owner],
  )
  return affectedRows === 1
}
