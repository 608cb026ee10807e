import type { Environment, Platform } from '@zbell/core'
import { asc, eq } from 'drizzle-orm'
import type { Database } from '../database.ts'
import { apps } from '../tables.ts'

export type AppRow = {
  readonly no: number
  readonly slug: string
  readonly name: string
  readonly identifiers: Partial<Record<Platform, string>>
  readonly createdAt: Date
}

/** One app in one environment: what every key and every call of an app is bound to. */
export type Scope = { readonly app: AppRow; readonly environment: Environment }

export async function findApp(database: Database, slug: string): Promise<AppRow | undefined> {
  return (await database.use((db) => db.select().from(apps).where(eq(apps.slug, slug))))[0]
}

export async function findAppByNo(database: Database, no: number): Promise<AppRow | undefined> {
  return (await database.use((db) => db.select().from(apps).where(eq(apps.no, no))))[0]
}

export const listApps = (database: Database): Promise<AppRow[]> =>
  database.use((db) => db.select().from(apps).orderBy(asc(apps.slug)).limit(200))

/** @throws {NameTaken} */
export async function createApp(database: Database, app: Omit<AppRow, 'no'>): Promise<void> {
  await database.use((db) => db.insert(apps).values(app))
}
