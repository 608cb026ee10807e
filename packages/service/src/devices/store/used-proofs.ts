import { lt, sql } from 'drizzle-orm'
import { build, type Database, now, select, usedProofs } from '../../database/index.ts'

/**
 * Lets a proof count for whoever shows it first, and for nobody else.
 * @param hash of what was signed @param holder of the address at which the device that shows it is reached
 * @returns whether it counts for this holder
 */
export async function useProof(database: Database, hash: Buffer, holder: Buffer, until: Date): Promise<boolean> {
  await database.change(build.insert(usedProofs).ignore().values({ hash, holder, untilAt: until }))
  const [row] = await select(
    database,
    { holder: usedProofs.holder },
    sql`from ${usedProofs} where ${usedProofs.hash} = ${hash}`,
  )
  return row?.holder.equals(holder) ?? false
}

export const pruneProofs = (database: Database) =>
  database.change(build.delete(usedProofs).where(lt(usedProofs.untilAt, now)))
