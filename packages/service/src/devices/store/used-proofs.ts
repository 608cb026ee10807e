import { sql } from 'drizzle-orm'
import { type Database, select, usedProofs } from '../../database/index.ts'

/**
 * Lets a proof count for whoever shows it first, and for nobody else.
 * @param hash of what was signed @param holder of the address at which the device that shows it is reached
 * @returns whether it counts for this holder
 */
export async function useProof(database: Database, hash: Buffer, holder: Buffer, until: Date): Promise<boolean> {
  await database.change(
    sql`insert ignore into used_proofs (hash, holder, until_at) values (${hash}, ${holder}, ${until})`,
  )
  const [row] = await select(
    database,
    { holder: usedProofs.holder },
    sql`from ${usedProofs} where ${usedProofs.hash} = ${hash}`,
  )
  return row?.holder.equals(holder) ?? false
}

export const pruneProofs = (database: Database) =>
  database.change(sql`delete from used_proofs where until_at < utc_timestamp(3)`)
