import { eq } from 'drizzle-orm'
import { type AccountRow, accounts, type Database } from '../../database/index.ts'

/** @throws {DuplicateKey} `email` */
export async function createAccount(database: Database, account: Omit<AccountRow, 'no'>): Promise<void> {
  await database.use((db) => db.insert(accounts).values(account))
}

export async function findAccount(database: Database, email: string): Promise<AccountRow | undefined> {
  return (await database.use((db) => db.select().from(accounts).where(eq(accounts.email, email))))[0]
}
