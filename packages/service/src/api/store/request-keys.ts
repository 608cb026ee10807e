import { eq, sql } from 'drizzle-orm'
import { build, type Database, now, requestKeys, select } from '../../database/index.ts'

/** A key is known for so long. */
export const hoursKept = 24
/** So many go in one statement. */
const batchSize = 10_000

/** What is known of a key that was used before. */
export type KeptRequest = {
  readonly request: Buffer
  /** `null` while the first request goes on, or where it never came to its end. */
  readonly status: number | null
  readonly answer: string | null
}

/**
 * Takes a key, or says how it was used before.
 * @param name of the key, with whose it is and for what
 * @param request a digest of what is asked
 */
export async function takeKey(database: Database, name: Buffer, request: Buffer): Promise<KeptRequest | undefined> {
  const { affectedRows } = await database.change(
    build.insert(requestKeys).ignore().values({ name, request, begunAt: now }),
  )
  if (affectedRows === 1) return undefined
  const [kept] = await select(
    database,
    { request: requestKeys.request, status: requestKeys.status, answer: requestKeys.answer },
    sql`from ${requestKeys} where ${requestKeys.name} = ${name}`,
  )
  // It was given back, or became too old, in between.
  return kept ?? takeKey(database, name, request)
}

export const keepAnswer = (database: Database, name: Buffer, status: number, answer: string) =>
  database.change(build.update(requestKeys).set({ status, answer }).where(eq(requestKeys.name, name)))

/** Nothing was done: the key is free again. */
export const giveKeyBack = (database: Database, name: Buffer) =>
  database.change(build.delete(requestKeys).where(eq(requestKeys.name, name)))

export async function pruneKeys(database: Database, mayGoOn: () => boolean): Promise<void> {
  while (mayGoOn()) {
    const { affectedRows } = await database.change(
      build
        .delete(requestKeys)
        .where(sql`${requestKeys.begunAt} < utc_timestamp(3) - interval ${hoursKept} hour`)
        .limit(batchSize),
    )
    if (affectedRows < batchSize) return
  }
}
