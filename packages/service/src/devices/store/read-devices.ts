import { type DeviceSort, type Direction, deviceSorts } from '@zbell/contract'
import { type Environment, handsetMark, type Platform, platforms, uuidFromBytes } from '@zbell/core'
import { and, desc, eq, getTableColumns, isNull, notLike, type SQL, sql } from 'drizzle-orm'
import { type AppColumns, appColumns, appOf } from '../../apps/index.ts'
import {
  type AppRow,
  computed,
  type Database,
  type DeviceRow,
  devices,
  inOrder,
  type Placed,
  type Reader,
  type Scope,
  type SortKey,
  select,
  users,
} from '../../database/index.ts'

const columns = { ...getTableColumns(devices), user: users.name }
const inScope = (scope: Scope) => [eq(devices.appNo, scope.app.no), eq(devices.environment, scope.environment)]

export async function findDevice(database: Database, scope: Scope, id: string): Promise<DeviceRow | undefined> {
  const [row] = await database.use((db) =>
    db
      .select(columns)
      .from(devices)
      .leftJoin(users, eq(users.no, devices.userNo))
      .where(and(...inScope(scope), eq(devices.id, id))),
  )
  return row
}

const named = Object.entries(getTableColumns(devices))
const deviceColumns = sql.raw(named.map(([name, column]) => `d.${column.name} as ${name}`).join(', '))
/** For a statement that names one table only. */
export const bareDeviceColumns = sql.raw(named.map(([name, column]) => `${column.name} as ${name}`).join(', '))

/** Devices with their app, as they call: every call of a device begins with it. */
export async function findDevicesBySecrets(
  database: Database,
  secretHashes: Buffer[],
): Promise<{ device: DeviceRow; app: AppRow }[]> {
  type StoredDevice = Omit<DeviceRow, 'id' | 'muted' | 'userProved'> &
    AppColumns & { id: Buffer; muted: number; userProved: number }
  const rows = await database.rows<StoredDevice>(
    sql`select ${deviceColumns}, u.name as user, ${appColumns}
     from devices d join apps a on a.no = d.app_no left join users u on u.no = d.user_no
     where d.secret_hash in ${secretHashes}`,
  )
  return rows.map(({ appSlug, appName, appIdentifiers, appCreatedAt, ...row }) => ({
    device: { ...row, id: uuidFromBytes(row.id), muted: row.muted === 1, userProved: row.userProved === 1 },
    app: appOf(row.appNo, { appSlug, appName, appIdentifiers, appCreatedAt }),
  }))
}

/** Versions as people count: 4.10.0 comes after 4.9.2. */
const version = (column: SQL): SortKey => ({ by: sql`natural_sort_key(${column})`, nullable: true })
const text = (column: SQL): SortKey => ({ by: sql`${column} collate utf8mb4_unicode_ci`, nullable: true })

const sortKeys: Readonly<Record<DeviceSort, SortKey>> = {
  // A number goes up with each registration, and the table is kept in its order.
  registeredAt: { by: sql`d.no`, isNumber: true },
  changedAt: { by: sql`d.changed_at` },
  seenAt: { by: sql`d.seen_at` },
  receiptAt: { by: sql`d.receipt_at`, nullable: true },
  user: { by: sql`u.name`, nullable: true },
  // As text, since an enumeration sorts by its places.
  platform: { by: sql`cast(d.platform as char)` },
  model: text(sql`d.model`),
  reach: {
    by: sql`case when d.retired_at is not null then 3 when d.permission <> 'granted' then 2 when d.muted then 1 else 0 end`,
  },
  locale: text(sql`d.locale`),
  timeZone: text(sql`d.time_zone`),
  appVersion: version(sql`d.app_version`),
  systemVersion: version(sql`d.system_version`),
}

export type DeviceFilter = {
  readonly sort?: DeviceSort | undefined
  readonly direction?: Direction | undefined
  readonly limit: number
  readonly after?: string | undefined
  readonly user?: string | undefined
  readonly platform?: Platform | undefined
}

/** Orders for which an index lies ready, by what narrows the list; all else is looked through, for a bounded time. */
const indexFor = (sort: DeviceSort, filter: 'user' | 'platform' | undefined): SQL => {
  if (filter === 'user') return sql`force index (by_user)`
  if (sort === 'changedAt') return sql`force index (by_change)`
  return sort === 'registeredAt' ? sql`force index (by_platform)` : sql``
}

/** A page of a list may take so long; an order that no index gives can take longer on a long list. */
const pageWithinMs = 3_000

/**
 * The newest first, unless another order is asked for. First the numbers, by an index where there is one; then the rows.
 * @throws {TooSlow} for an order by which too many have to be looked through
 */
export async function listDevices(
  database: Database,
  scope: Scope,
  { sort = 'registeredAt', direction = deviceSorts[sort], after, user, platform, limit }: DeviceFilter,
): Promise<(DeviceRow & Placed)[]> {
  const { app, environment } = scope
  const ordered = inOrder(sortKeys[sort], sql`d.no`, direction, after)
  const owner = user === undefined ? undefined : await userNo(database, scope, user)
  if (user !== undefined && owner === undefined) return []
  const join = sort === 'user' ? sql`left join users u on u.no = d.user_no` : sql``
  // An index that begins with the platform gives one order for each of them; each gives its part of the page.
  const each: readonly (Platform | undefined)[] =
    platform !== undefined ? [platform] : owner === undefined && sort === 'registeredAt' ? platforms : [undefined]
  const reader = database.bounded({ withinMs: pageWithinMs })
  const found = await Promise.all(
    each.map((one) =>
      reader.rows<Placed>(
        sql`select d.no, ${ordered.column} from devices d
           ${indexFor(sort, owner !== undefined ? 'user' : one && 'platform')} ${join}
         where d.app_no = ${app.no} and d.environment = ${environment} and ${ordered.where}
           ${one === undefined ? sql`` : sql`and d.platform = ${one}`}
           ${owner === undefined ? sql`` : sql`and d.user_no = ${owner}`}
         order by ${ordered.orderBy} limit ${limit}`,
      ),
    ),
  )
  const places =
    found.length === 1
      ? found[0]!
      : found
          .flat()
          .sort((a, b) => (direction === 'descending' ? b.no - a.no : a.no - b.no))
          .slice(0, limit)
  return rowsOf(database, places)
}

async function userNo(database: Reader, { app, environment }: Scope, name: string): Promise<number | undefined> {
  const [row] = await select(
    database,
    { no: users.no },
    sql`from ${users} where ${users.appNo} = ${app.no} and ${users.environment} = ${environment} and ${users.name} = ${name}`,
  )
  return row?.no
}

/** Whole rows, in the order of their places. */
async function rowsOf(database: Reader, places: readonly Placed[]): Promise<(DeviceRow & Placed)[]> {
  if (places.length === 0) return []
  type StoredDevice = Omit<DeviceRow, 'id' | 'muted' | 'userProved'> & { id: Buffer; muted: number; userProved: number }
  const rows = await database.rows<StoredDevice>(
    sql`select ${deviceColumns}, u.name as user from devices d left join users u on u.no = d.user_no
     where d.no in ${places.map(({ no }) => no)}`,
  )
  const byNo = new Map(rows.map((row) => [row.no, row]))
  return places.flatMap((place) => {
    const row = byNo.get(place.no)
    return row
      ? [{ ...row, ...place, id: uuidFromBytes(row.id), muted: row.muted === 1, userProved: row.userProved === 1 }]
      : []
  })
}

/** @param numbers of devices of one app; in this order */
export const devicesByNo = (database: Database, numbers: readonly number[]): Promise<DeviceRow[]> =>
  numbers.length === 0
    ? Promise.resolve([])
    : rowsOf(
        database,
        numbers.map((no) => ({ no, sortedBy: null })),
      )

/** The push endpoint of the browser that registered last; a virtual handset's is none. */
export async function latestEndpoint(
  database: Database,
  appNo: number,
  environment: Environment,
): Promise<string | undefined> {
  const web = and(
    eq(devices.appNo, appNo),
    eq(devices.environment, environment),
    eq(devices.platform, 'web'),
    isNull(devices.retiredAt),
    notLike(devices.token, `%/${handsetMark}%`),
  )
  const [row] = await database.use((db) =>
    db.select({ token: devices.token }).from(devices).where(web).orderBy(desc(devices.no)).limit(1),
  )
  return row?.token
}

/** When a device of an app changed last. */
export async function lastDeviceChange(database: Reader, { app, environment }: Scope): Promise<Date | undefined> {
  const [newest] = await select(
    database,
    { at: computed<Date | null>(sql`max(${devices.changedAt})`) },
    sql`from ${devices} where ${devices.appNo} = ${app.no} and ${devices.environment} = ${environment}`,
  )
  return newest?.at ?? undefined
}
