import { and, eq, lt, sql } from 'drizzle-orm'
import { build, type Database, now, select, usedProofs } from '../../database/index.ts'

/**
 * Lets a proof count for whoever shows it first, and for nobody else.
 * @param hash of what was signed @param holder the device that shows it, or its installation
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

/** Lets a proof that one holder has shown be another’s from now on. */
export async function rebindProof(database: Database, hash: Buffer, before: Buffer, after: Buffer): Promise<void> {
  const own = and(eq(usedProofs.hash, hash), eq(usedProofs.holder, before))
  await database.change(build.update(usedProofs).set({ holder: after }).where(own))
}

export const pruneProofs = (database: Database) =>
  database.change(build.delete(usedProofs).where(lt(usedProofs.untilAt, now)))
