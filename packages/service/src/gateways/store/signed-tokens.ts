import { sql } from 'drizzle-orm'
import { build, type Database, select, signedTokens } from '../../database/index.ts'

/**
 * When the token of a key was signed that all processes use now; a new one is due once it is older than so long.
 * @param name 32 bytes that stand for the key
 * @returns seconds since 1970, by the database's clock
 */
export async function tokenSignedAt(database: Database, name: Buffer, atMostSeconds: number): Promise<number> {
  const now = sql`utc_timestamp(3)`
  // One from the future was made before the clock was set back.
  await database.change(
    build
      .insert(signedTokens)
      .values({ name, madeAt: now })
      .onDuplicateKeyUpdate({
        set: {
          madeAt: sql`if(${signedTokens.madeAt} <= ${now} - interval ${atMostSeconds} second
            or ${signedTokens.madeAt} > ${now}, ${now}, ${signedTokens.madeAt})`,
        },
      }),
  )
  const [row] = await select(
    database,
    { madeAt: signedTokens.madeAt },
    sql`from ${signedTokens} where ${signedTokens.name} = ${name}`,
  )
  return Math.floor((row?.madeAt.getTime() ?? 0) / 1_000)
}
