import { sql } from 'drizzle-orm'
import { calendarFeeds, type Database, type Reader, select, type Where } from '../../database/index.ts'

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
    sql`insert into calendar_feeds (app_no, environment, secret_hash, made_by, made_at)
        values (${appNo}, ${environment}, ${secretHash}, ${madeBy}, utc_timestamp(3))
        on duplicate key update secret_hash = value(secret_hash), made_by = value(made_by), made_at = value(made_at)`,
  )
}

export async function removeFeed(database: Database, { appNo, environment }: Where): Promise<void> {
  await database.change(sql`delete from calendar_feeds where app_no = ${appNo} and environment = ${environment}`)
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
