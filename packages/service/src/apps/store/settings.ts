import type { Environment } from '@zbell/core'
import type { Cap, QuietWindow } from '@zbell/core/policy'
import { and, eq, sql } from 'drizzle-orm'
import { appSettings, build, type Database, incoming, present, type Scope, select } from '../../database/index.ts'

export type Settings = {
  readonly requireProof: boolean
  readonly openTopics: boolean
  /** Sending to so many devices or more asks for their number. */
  readonly askFrom: number
  /** By this clock those are meant whose devices have told none. */
  readonly timeZone: string
  readonly quietHours: readonly QuietWindow[]
  readonly caps: readonly Cap[]
  /** A trigger that fires less often within an hour is no runaway. */
  readonly runawayFloor: number
}
export type SettingsRow = Settings & { readonly proofKey: Buffer | null }

/** What an app asks of its devices until somebody says otherwise. In production anybody may hold its public key. */
const defaultSettings = (environment: Environment): Settings => ({
  requireProof: environment === 'production',
  openTopics: environment !== 'production',
  askFrom: 100,
  timeZone: 'UTC',
  quietHours: [],
  caps: [],
  runawayFloor: 10_000,
})

export async function readSettings(database: Database, { app, environment }: Scope): Promise<SettingsRow> {
  const [row] = await select(
    database,
    { settings: appSettings.settings, proofKey: appSettings.proofKey },
    sql`from ${appSettings} where ${appSettings.appNo} = ${app.no} and ${appSettings.environment} = ${environment}`,
  )
  return { ...settingsOf(row?.settings, environment), proofKey: row?.proofKey ?? null }
}

/** Settings as they are kept, with what nobody has set. */
export function settingsOf(stored: unknown, environment: Environment): Settings {
  const given = typeof stored === 'string' ? (JSON.parse(stored) as Partial<Settings>) : (stored as Partial<Settings>)
  return { ...defaultSettings(environment), ...given }
}

export async function changeSettings(
  database: Database,
  { app, environment }: Scope,
  change: { readonly [Name in keyof Settings]?: Settings[Name] | undefined },
): Promise<void> {
  await database.change(
    build
      .insert(appSettings)
      .values({ appNo: app.no, environment, settings: change })
      .onDuplicateKeyUpdate({
        set: { settings: sql`json_merge_patch(${appSettings.settings}, value(${appSettings.settings}))` },
      }),
  )
}

/** All proof keys there are: one an app and environment at most. */
export const sealedProofKeys = (database: Database) =>
  select(
    database,
    { appNo: appSettings.appNo, environment: appSettings.environment, sealed: present(appSettings.proofKey) },
    sql`from ${appSettings} where ${appSettings.proofKey} is not null`,
  )

/** @returns false when it was changed meanwhile */
export async function replaceProofKey(
  database: Database,
  { appNo, environment, sealed }: { appNo: number; environment: Environment; sealed: Buffer },
  after: Buffer,
): Promise<boolean> {
  const { affectedRows } = await database.change(
    build
      .update(appSettings)
      .set({ proofKey: after })
      .where(
        and(eq(appSettings.appNo, appNo), eq(appSettings.environment, environment), eq(appSettings.proofKey, sealed)),
      ),
  )
  return affectedRows === 1
}

export async function storeProofKey(database: Database, { app, environment }: Scope, sealed: Buffer): Promise<void> {
  await database.change(
    build
      .insert(appSettings)
      .values({ appNo: app.no, environment, settings: {}, proofKey: sealed })
      .onDuplicateKeyUpdate({ set: { proofKey: incoming(appSettings.proofKey) } }),
  )
}
