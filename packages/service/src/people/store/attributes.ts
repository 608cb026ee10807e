import {
  type AttributeType,
  type AttributeValue,
  attributeLimits,
  attributeTypeOf,
  type KeptValue,
  keepValue,
  keptValue,
} from '@zbell/core'
import { eq, inArray, sql } from 'drizzle-orm'
import {
  attributes,
  build,
  commas,
  computed,
  type Database,
  now,
  type Scope,
  select,
  type Tx,
  userAttributes,
  users,
} from '../../database/index.ts'

export type AttributeRow = {
  readonly no: number
  readonly name: string
  readonly type: AttributeType
  readonly devicesMay: boolean
  readonly createdAt: Date
}

/** A value that cannot be set, with the name of its attribute. */
export class AttributeRefused extends Error {
  override readonly name = 'AttributeRefused'
  readonly faults: readonly AttributeFault[]

  constructor(...faults: readonly AttributeFault[]) {
    super(faults.map(({ attribute, says }) => `${attribute} ${says}`).join('; '))
    this.faults = faults
  }
}

export type AttributeFault = { readonly attribute: string; readonly says: string }

const refuse = (attribute: string, says: string): AttributeRefused => new AttributeRefused({ attribute, says })

type StoredAttribute = Omit<AttributeRow, 'devicesMay'> & { devicesMay: number }
const columns = sql`no, name, type, devices_may as devicesMay, created_at as createdAt`
const rowOf = (raw: StoredAttribute): AttributeRow => ({ ...raw, devicesMay: raw.devicesMay === 1 })

/** In the order of their names. */
export async function listAttributes(
  database: Pick<Database, 'rows'>,
  { app, environment }: Scope,
): Promise<AttributeRow[]> {
  const rows = await database.rows<StoredAttribute>(
    sql`select ${columns} from attributes where app_no = ${app.no} and environment = ${environment} order by name`,
  )
  return rows.map(rowOf)
}

/** Declares an attribute, or changes who may set it. @throws {AttributeRefused} when it has another type already */
export async function declareAttribute(
  database: Database,
  scope: Scope,
  name: string,
  given: { readonly type?: AttributeType | undefined; readonly devicesMay?: boolean | undefined },
): Promise<AttributeRow> {
  return database.transact(async (tx) => {
    const [known] = await find(tx, scope, [name])
    if (!known && given.type === undefined) throw refuse(name, 'has not been used yet; say of which type it will be')
    if (known && given.type !== undefined && given.type !== known.type)
      throw refuse(name, `is of type ${known.type} already`)
    const declared = known ?? (await declare(tx, scope, name, given.type!))
    if (given.devicesMay !== undefined)
      await tx.change(
        build.update(attributes).set({ devicesMay: given.devicesMay }).where(eq(attributes.no, declared.no)),
      )
    return { ...declared, devicesMay: given.devicesMay ?? declared.devicesMay }
  })
}

export type Changes = Readonly<Record<string, AttributeValue | null>>

/**
 * Sets and removes attributes of a user. A name that nobody used before is declared with its value's type.
 * @param byDevice only those that devices may set
 * @throws {AttributeRefused}
 */
export async function changeAttributes(
  tx: Tx,
  scope: Scope,
  userNo: number,
  changes: Changes,
  byDevice: boolean,
): Promise<void> {
  const [refused] = await changeManyAttributes(tx, scope, [{ userNo, changes }], byDevice)
  if (refused?.error) throw refused.error
}

/** So many values go in one statement: while it is put together nobody else is served. */
const valuesInStatement = 500

/**
 * The same for many users at once, in a few statements.
 * @returns those whose changes were refused as a whole, by their place in the list
 */
export async function changeManyAttributes(
  tx: Tx,
  scope: Scope,
  entries: readonly { readonly userNo: number; readonly changes: Changes }[],
  byDevice = false,
): Promise<{ readonly at: number; readonly error: AttributeRefused }[]> {
  const names = [...new Set(entries.flatMap(({ changes }) => Object.keys(changes)))]
  if (names.length === 0) return []
  const known = new Map((await find(tx, scope, names)).map((row) => [row.name, row]))
  const refused: { at: number; error: AttributeRefused }[] = []
  const stored: { userNo: number; no: number; kept: KeptValue }[] = []
  const removed: [number, number][] = []
  const changed: number[] = []
  for (const [at, { userNo, changes }] of entries.entries()) {
    try {
      const set = await prepare(tx, scope, known, changes, byDevice)
      for (const { no, kept } of set) {
        if (kept === null) removed.push([userNo, no])
        else stored.push({ userNo, no, kept })
      }
      if (set.length > 0) changed.push(userNo)
    } catch (error) {
      if (!(error instanceof AttributeRefused)) throw error
      refused.push({ at, error })
    }
  }
  for (let from = 0; from < stored.length; from += valuesInStatement) {
    const rows = stored
      .slice(from, from + valuesInStatement)
      .map(
        ({ userNo, no, kept: { text, number, second } }) =>
          sql`(${userNo}, ${no}, ${text}, ${number}, ${second}, utc_timestamp(3))`,
      )
    await tx.change(
      sql`insert into user_attributes (user_no, attribute_no, text, number, second, changed_at)
       values ${commas(rows)}
       on duplicate key update text = value(text), number = value(number), second = value(second), changed_at = value(changed_at)`,
    )
  }
  if (removed.length > 0)
    await tx.change(
      build.delete(userAttributes).where(sql`(${userAttributes.userNo}, ${userAttributes.attributeNo}) in ${removed}`),
    )
  if (changed.length > 0) await tx.change(build.update(users).set({ changedAt: now }).where(inArray(users.no, changed)))
  return refused
}

/** What is to be stored for one user, all of it or nothing. New names join the known ones. @throws {AttributeRefused} */
async function prepare(
  tx: Tx,
  scope: Scope,
  known: Map<string, AttributeRow>,
  changes: Changes,
  byDevice: boolean,
): Promise<{ readonly no: number; readonly kept: KeptValue | null }[]> {
  const faults: AttributeFault[] = []
  const checked = Object.entries(changes).flatMap(([name, value]) => {
    const fault = (says: string) => {
      faults.push({ attribute: name, says })
      return []
    }
    const row = known.get(name)
    if (byDevice && !row?.devicesMay) return fault('may not be set by devices; the app’s owner can allow it')
    if (value === null) return { name, kept: null }
    const type = row?.type ?? attributeTypeOf(value)
    if (type === undefined) return fault('is nothing that can be kept')
    const kept = keepValue(type, value)
    return typeof kept === 'string' ? fault(kept) : { name, kept, type }
  })
  if (faults.length > 0) throw new AttributeRefused(...faults)
  const set: { no: number; kept: KeptValue | null }[] = []
  for (const { name, kept, type } of checked) {
    let row = known.get(name)
    if (!row && type !== undefined) {
      row = await declare(tx, scope, name, type)
      known.set(name, row)
    }
    if (row) set.push({ no: row.no, kept })
  }
  return set
}

/** What is known of these users, by their numbers. */
export async function attributesOf(
  database: Pick<Database, 'rows'>,
  userNos: readonly number[],
  onlyDevices = false,
): Promise<Map<number, Record<string, AttributeValue>>> {
  const found = new Map<number, Record<string, AttributeValue>>()
  if (userNos.length === 0) return found
  const rows = await database.rows<KeptValue & { userNo: number; name: string; type: AttributeType }>(
    sql`select v.user_no as userNo, a.name, a.type, v.text, v.number, v.second
     from user_attributes v join attributes a on a.no = v.attribute_no
     where v.user_no in ${userNos} ${onlyDevices ? sql`and a.devices_may` : sql``} order by a.name`,
  )
  for (const { userNo, name, type, ...kept } of rows) {
    const own = found.get(userNo) ?? {}
    own[name] = keptValue(type, kept)
    found.set(userNo, own)
  }
  return found
}

async function find(tx: Tx, { app, environment }: Scope, names: readonly string[]): Promise<AttributeRow[]> {
  const rows = await tx.rows<StoredAttribute>(
    sql`select ${columns} from attributes where app_no = ${app.no} and environment = ${environment} and name in ${names}`,
  )
  return rows.map(rowOf)
}

async function declare(tx: Tx, { app, environment }: Scope, name: string, type: AttributeType): Promise<AttributeRow> {
  const [{ count } = { count: 0 }] = await select(
    tx,
    { count: computed<number>(sql`count(*)`) },
    sql`from ${attributes} where ${attributes.appNo} = ${app.no} and ${attributes.environment} = ${environment}`,
  )
  if (count >= attributeLimits.perApp)
    throw refuse(name, `would be one more than the ${attributeLimits.perApp} that an app may have`)
  const createdAt = new Date()
  const { insertId } = await tx.change(
    build
      .insert(attributes)
      .values({ appNo: app.no, environment, name, type, createdAt })
      .onDuplicateKeyUpdate({ set: { no: sql`last_insert_id(${attributes.no})` } }),
  )
  // Another request may have declared it since this one looked.
  const [stored] = await tx.rows<StoredAttribute>(
    sql`select ${columns} from attributes where no = ${insertId} lock in share mode`,
  )
  if (!stored) throw refuse(name, 'was declared and removed at the same time')
  if (stored.type !== type) throw refuse(name, `is of type ${stored.type} already`)
  return rowOf(stored)
}

/** The names of what was changed of a user after a moment. */
export async function attributesChangedSince(
  database: Pick<Database, 'rows'>,
  userNo: number,
  since: Date,
): Promise<string[]> {
  const rows = await select(
    database,
    { name: attributes.name },
    sql`from ${userAttributes} join ${attributes} on ${attributes.no} = ${userAttributes.attributeNo}
        where ${userAttributes.userNo} = ${userNo} and ${userAttributes.changedAt} > ${since}`,
  )
  return rows.map(({ name }) => name)
}
