import type { Environment, Platform } from '@zbell/core'
import { and, asc, eq } from 'drizzle-orm'
import type { Database } from '../database.ts'
import { credentials } from '../tables.ts'

export type CredentialRow = Omit<typeof credentials.$inferSelect, 'no'>

/** Stores a credential in place of the one before. */
export async function putCredential(database: Database, row: CredentialRow): Promise<void> {
  const { kind, fingerprint, sealed, createdAt } = row
  await database.use((db) =>
    db.insert(credentials).values(row).onDuplicateKeyUpdate({ set: { kind, fingerprint, sealed, createdAt } }),
  )
}

export async function findCredential(
  database: Database,
  appNo: number,
  environment: Environment,
  platform: Platform,
): Promise<CredentialRow | undefined> {
  const [row] = await database.use((db) =>
    db
      .select()
      .from(credentials)
      .where(
        and(eq(credentials.appNo, appNo), eq(credentials.environment, environment), eq(credentials.platform, platform)),
      ),
  )
  return row
}

export const listCredentials = (database: Database, appNo: number): Promise<CredentialRow[]> =>
  database.use((db) => db.select().from(credentials).where(eq(credentials.appNo, appNo)).orderBy(asc(credentials.no)))
