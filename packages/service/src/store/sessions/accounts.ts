import type { Role } from '@zbell/contract'
import { eq } from 'drizzle-orm'
import type { Database } from '../database.ts'
import { accounts } from '../tables.ts'

export type AccountRow = {
  readonly no: number
  readonly email: string
  readonly name: string
  readonly role: Role
  readonly passwordHash: string
}

/** @throws {DuplicateKey} `email` */
export async function createAccount(
  database: Database,
  account: Omit<AccountRow, 'no'> & { createdAt: Date },
): Promise<void> {
  await database.use((db) => db.insert(accounts).values(account))
}

export async function findAccount(database: Database, email: string): Promise<AccountRow | undefined> {
  return (await database.use((db) => db.select().from(accounts).where(eq(accounts.email, email))))[0]
}
