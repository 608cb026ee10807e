import { and, eq, getTableColumns, gt, lt } from 'drizzle-orm'
import {
  type AccountRow,
  accounts,
  build,
  type Database,
  knownBrowsers,
  sessions,
  signInLinks,
} from '../../database/index.ts'

type Grant = { readonly hash: Buffer; readonly accountNo: number; readonly expiresAt: Date }

export async function createSession(database: Database, grant: Grant): Promise<void> {
  await database.use((db) => db.insert(sessions).values(grant))
}

/** Forgets sessions, links and browsers that are over. */
export async function pruneSessions(database: Database, now = new Date()): Promise<void> {
  await database.use((db) => db.delete(sessions).where(lt(sessions.expiresAt, now)))
  await database.use((db) => db.delete(signInLinks).where(lt(signInLinks.expiresAt, now)))
  await database.use((db) => db.delete(knownBrowsers).where(lt(knownBrowsers.expiresAt, now)))
}

/** Remembers a browser in which an account has signed in. */
export async function keepBrowser(database: Database, grant: Grant): Promise<void> {
  await database.use((db) => db.insert(knownBrowsers).values(grant))
}

/** Whether an account has signed in with this browser before. */
export async function isKnownBrowser(database: Database, hash: Buffer, email: string): Promise<boolean> {
  const rows = await database.use((db) =>
    db
      .select({ no: accounts.no })
      .from(knownBrowsers)
      .innerJoin(accounts, eq(accounts.no, knownBrowsers.accountNo))
      .where(and(eq(knownBrowsers.hash, hash), eq(accounts.email, email), gt(knownBrowsers.expiresAt, new Date()))),
  )
  return rows.length > 0
}

export async function findSession(database: Database, hash: Buffer, now: Date): Promise<AccountRow | undefined> {
  const [row] = await database.use((db) =>
    db
      .select(getTableColumns(accounts))
      .from(sessions)
      .innerJoin(accounts, eq(accounts.no, sessions.accountNo))
      .where(and(eq(sessions.hash, hash), gt(sessions.expiresAt, now))),
  )
  return row
}

export async function deleteSession(database: Database, hash: Buffer): Promise<void> {
  await database.use((db) => db.delete(sessions).where(eq(sessions.hash, hash)))
}

/** Makes a link; those that the account had before lead nowhere any more. */
export async function createSignInLink(database: Database, { hash, accountNo, expiresAt }: Grant): Promise<void> {
  await database.transact(async (tx) => {
    await tx.change(build.delete(signInLinks).where(eq(signInLinks.accountNo, accountNo)))
    await tx.change(build.insert(signInLinks).values({ hash, accountNo, expiresAt }))
  })
}

/** Uses a sign-in link up. Of two callers at once only one gets the account. */
export async function useSignInLink(database: Database, hash: Buffer, now: Date): Promise<AccountRow | undefined> {
  const [row] = await database.use((db) =>
    db
      .select(getTableColumns(accounts))
      .from(signInLinks)
      .innerJoin(accounts, eq(accounts.no, signInLinks.accountNo))
      .where(and(eq(signInLinks.hash, hash), gt(signInLinks.expiresAt, now))),
  )
  if (!row) return undefined
  const [{ affectedRows }] = await database.use((db) => db.delete(signInLinks).where(eq(signInLinks.hash, hash)))
  return affectedRows === 1 ? row : undefined
}
