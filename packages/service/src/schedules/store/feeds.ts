import { and, eq, sql } from 'drizzle-orm'
import {
  build,
  calendarFeeds,
  type Database,
  incoming,
  now,
  type Reader,
  select,
  type Where,
} from '../../database/index.ts'

export type FeedRow = { readonly madeBy: string; readonly madeAt: Date }

export async function findFeed(reader: Reader, { appNo, environment }: Where): Promise<FeedRow | undefined> {
  const [row] = await select(
    reader,
    { madeBy: calendarFeeds.madeBy, madeAt: calendarFeeds.madeAt },
    sql`from ${calendarFeeds}
        where ${calendarFeeds.appNo} = ${appNo} and ${calendarFeeds.environment} = ${environment}`,
  )
  return row
}

/** The address before ends. */
export async function storeFeed(
  database: Database,
  { appNo, environment }: Where,
  { secretHash, madeBy }: { readonly secretHash: Buffer; readonly madeBy: string },
): Promise<void> {
  await database.change(
    build
      .insert(calendarFeeds)
      .values({ appNo, environment, secretHash, madeBy, madeAt: now })
      .onDuplicateKeyUpdate({
        set: {
          secretHash: incoming(calendarFeeds.secretHash),
          madeBy: incoming(calendarFeeds.madeBy),
          madeAt: incoming(calendarFeeds.madeAt),
        },
      }),
  )
}

export async function removeFeed(database: Database, { appNo, environment }: Where): Promise<void> {
  await database.change(
    build.delete(calendarFeeds).where(and(eq(calendarFeeds.appNo, appNo), eq(calendarFeeds.environment, environment))),
  )
}

/** Whose calendar an address leads to. */
export async function feedOfSecret(reader: Reader, secretHash: Buffer): Promise<Where | undefined> {
  const [row] = await select(
    reader,
    { appNo: calendarFeeds.appNo, environment: calendarFeeds.environment },
    sql`from ${calendarFeeds} where ${calendarFeeds.secretHash} = ${secretHash}`,
  )
  return row
}
