import type { Platform } from '@zbell/core'
import { asc, eq, gt, sql } from 'drizzle-orm'
import { type AppRow, apps, build, type Database, select } from '../../database/index.ts'

export async function findApp(database: Database, slug: string): Promise<AppRow | undefined> {
  return (await database.use((db) => db.select().from(apps).where(eq(apps.slug, slug))))[0]
}

export async function findAppByNo(database: Database, no: number): Promise<AppRow | undefined> {
  return (await database.use((db) => db.select().from(apps).where(eq(apps.no, no))))[0]
}

/** An app's columns beside those of another table, where it is `a`. */
export const appColumns = sql`a.slug as appSlug, a.name as appName, a.identifiers as appIdentifiers, a.created_at as appCreatedAt`
export type AppColumns = {
  readonly appSlug: string
  readonly appName: string
  readonly appIdentifiers: string | AppRow['identifiers']
  readonly appCreatedAt: Date
}
export const appOf = (no: number, { appSlug, appName, appIdentifiers, appCreatedAt }: AppColumns): AppRow => ({
  no,
  slug: appSlug,
  name: appName,
  identifiers: readIdentifiers(appIdentifiers),
  createdAt: appCreatedAt,
})

/** The driver reads JSON by itself or leaves it as text, as the server's version has it. */
const readIdentifiers = (kept: string | AppRow['identifiers']): AppRow['identifiers'] =>
  typeof kept === 'string' ? (JSON.parse(kept) as AppRow['identifiers']) : kept

/** The oldest first: it is the one that the console opens with. @param after the number of the last one before */
export const listApps = (database: Database, limit: number, after = 0): Promise<AppRow[]> =>
  database.use((db) => db.select().from(apps).where(gt(apps.no, after)).orderBy(asc(apps.no)).limit(limit))

/** All of them, for whoever has to choose one. */
export async function everyApp(database: Database): Promise<AppRow[]> {
  const all: AppRow[] = []
  for (;;) {
    const page = await listApps(database, 500, all.at(-1)?.no)
    all.push(...page)
    if (page.length < 500) return all
  }
}

export type AppChange = {
  readonly name?: string | undefined
  /** Null takes one away. */
  readonly identifiers: { readonly [P in Platform]?: string | null | undefined }
}

/** Changes one identifier without touching the others that somebody else may be changing. */
export async function changeApp(database: Database, no: number, { name, identifiers }: AppChange): Promise<void> {
  await database.transact(async (tx) => {
    const [row] = await select(
      tx,
      { identifiers: apps.identifiers },
      sql`from ${apps} where ${apps.no} = ${no} for update`,
    )
    if (!row) return
    const kept = readIdentifiers(row.identifiers)
    const given = Object.entries(identifiers).filter(([, value]) => value !== undefined)
    const merged = Object.entries({ ...kept, ...Object.fromEntries(given) }).filter(([, value]) => value !== null)
    await tx.change(
      build
        .update(apps)
        .set({ identifiers: Object.fromEntries(merged), name: sql`coalesce(${name ?? null}, ${apps.name})` })
        .where(eq(apps.no, no)),
    )
  })
}

/** @throws {DuplicateKey} `slug` */
export async function createApp(database: Database, app: Omit<AppRow, 'no'>): Promise<void> {
  await database.use((db) => db.insert(apps).values(app))
}
