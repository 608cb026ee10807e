import type { Platform } from '@zbell/core'
import { and, eq, isNotNull, type SQL, sql } from 'drizzle-orm'
import {
  build,
  computed,
  type Database,
  type GatewayPlace,
  gatewayProfiles,
  inWhere,
  now,
  present,
  type Reader,
  select,
  type Tx,
} from '../../database/index.ts'

export type ProfileSlot = 'in-use' | 'waiting'

/** One version of an app's own gateway profile. */
export type ProfileRow = {
  readonly no: number
  readonly version: number
  readonly slot: ProfileSlot | null
  readonly name: string
  readonly asksFor: string
  /** A day, such as 2027-06-01. */
  readonly outdatedFrom: string | null
  /** As it was written. */
  readonly text: string
  readonly madeBy: string
  readonly madeAt: Date
}

const inPlace = (place: GatewayPlace): SQL => sql`${inWhere(place)} and platform = ${place.platform}`

const columns = sql`no, version, slot, name, asks_for as asksFor, date_format(outdated_from, '%Y-%m-%d') as outdatedFrom,
  body as text, made_by as madeBy, made_at as madeAt`

/** Those that are in use and that wait, one of each at most. */
export const profilesInPlace = (reader: Reader, place: GatewayPlace): Promise<ProfileRow[]> =>
  reader.rows<ProfileRow>(
    sql`select ${columns} from gateway_profiles where ${inPlace(place)} and slot in ('in-use', 'waiting')`,
  )

/** Which one is in use, without its text: asked for every few seconds. */
export async function profileNoInUse(reader: Reader, place: GatewayPlace): Promise<number | undefined> {
  const [row] = await select(
    reader,
    { no: gatewayProfiles.no },
    sql`from ${gatewayProfiles} where ${inPlace(place)} and ${gatewayProfiles.slot} = 'in-use'`,
  )
  return row?.no
}

/** Newest first. @param before the version of the last one before */
export const listProfiles = (
  reader: Reader,
  place: GatewayPlace,
  limit: number,
  before = 4_294_967_295,
): Promise<ProfileRow[]> =>
  reader.rows<ProfileRow>(
    sql`select ${columns} from gateway_profiles where ${inPlace(place)} and version < ${before}
        order by version desc limit ${limit}`,
  )

export async function findProfile(
  reader: Reader,
  place: GatewayPlace,
  version: number,
): Promise<ProfileRow | undefined> {
  const [row] = await reader.rows<ProfileRow>(
    sql`select ${columns} from gateway_profiles where ${inPlace(place)} and version = ${version}`,
  )
  return row
}

/** Those in use that say when they will be outdated. */
export const outdatingProfiles = (
  reader: Reader,
): Promise<{ readonly platform: Platform; readonly name: string; readonly outdatedFrom: string }[]> =>
  reader.rows(
    sql`select distinct platform, name, date_format(outdated_from, '%Y-%m-%d') as outdatedFrom from gateway_profiles
        where slot = 'in-use' and outdated_from is not null limit 1000`,
  )

/** So many versions are kept; those that are in use or wait always are. */
const keptVersions = 50

type Saved = Pick<ProfileRow, 'name' | 'asksFor' | 'outdatedFrom' | 'text' | 'madeBy'>

/**
 * Keeps a new version; the very one that is in use already makes none.
 * @param use puts it in use, and the one before waits; else it waits itself
 */
export async function saveProfile(database: Database, place: GatewayPlace, saved: Saved, use: boolean): Promise<void> {
  const { name, asksFor, outdatedFrom, text, madeBy } = saved
  await database.transactAnew(async (tx) => {
    const rows = await lockSlots(tx, place)
    const [same] = await select(
      tx,
      { version: gatewayProfiles.version },
      sql`from ${gatewayProfiles} where ${inPlace(place)} and ${gatewayProfiles.slot} is not null and ${gatewayProfiles.body} = ${text}`,
    )
    let version = same?.version
    if (version === undefined) {
      const [newest] = await select(
        tx,
        { version: computed<number | null>(sql`max(${gatewayProfiles.version})`) },
        sql`from ${gatewayProfiles} where ${inPlace(place)}`,
      )
      version = (newest?.version ?? 0) + 1
      await tx.change(
        build.insert(gatewayProfiles).values({
          appNo: place.appNo,
          environment: place.environment,
          platform: place.platform,
          version,
          name,
          asksFor,
          outdatedFrom,
          body: text,
          madeBy,
          madeAt: now,
        }),
      )
      await tx.change(
        build.delete(gatewayProfiles).where(
          sql`${inPlace(place)} and ${gatewayProfiles.slot} is null
              and ${gatewayProfiles.version} <= ${version - keptVersions}`,
        ),
      )
    }
    await fill(tx, place, rows, version, use ? 'in-use' : 'waiting')
  })
}

/** Puts a version in use; the one before waits. */
export const useProfile = (database: Database, place: GatewayPlace, version: number): Promise<void> =>
  database.transact(async (tx) => fill(tx, place, await lockSlots(tx, place), version, 'in-use'))

/** None of the app's own is in use from now on; the one that was waits. */
export const deleteProfile = (database: Database, place: GatewayPlace): Promise<void> =>
  database.transact(async (tx) => {
    const current = (await lockSlots(tx, place)).find(({ slot }) => slot === 'in-use')
    if (!current) return
    await empty(tx, place)
    await setSlot(tx, place, current.version, 'waiting')
  })

type Slot = { readonly version: number; readonly slot: ProfileSlot }

const lockSlots = (tx: Tx, place: GatewayPlace): Promise<Slot[]> =>
  select(
    tx,
    { version: gatewayProfiles.version, slot: present(gatewayProfiles.slot) },
    sql`from ${gatewayProfiles} where ${inPlace(place)} and ${gatewayProfiles.slot} is not null for update`,
  )

/** The slots are unique: all are emptied before any is filled. */
async function fill(
  tx: Tx,
  place: GatewayPlace,
  rows: readonly Slot[],
  version: number,
  slot: ProfileSlot,
): Promise<void> {
  const current = rows.find((one) => one.slot === 'in-use')?.version
  if (current === version) return
  await empty(tx, place)
  await setSlot(tx, place, version, slot)
  if (current !== undefined) await setSlot(tx, place, current, slot === 'in-use' ? 'waiting' : 'in-use')
}

const empty = (tx: Tx, place: GatewayPlace) =>
  tx.change(
    build
      .update(gatewayProfiles)
      .set({ slot: null })
      .where(and(inPlace(place), isNotNull(gatewayProfiles.slot))),
  )

const setSlot = (tx: Tx, place: GatewayPlace, version: number, slot: ProfileSlot) =>
  tx.change(
    build
      .update(gatewayProfiles)
      .set({ slot })
      .where(and(inPlace(place), eq(gatewayProfiles.version, version))),
  )
