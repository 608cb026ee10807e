import { type Environment, handsetMark, type Platform, uuidFromBytes } from '@zbell/core'
import { and, asc, desc, eq, getTableColumns, gt, isNull, lt, notLike, or, sql } from 'drizzle-orm'
import { type AppColumns, type AppRow, appColumns, appOf, type Scope } from '../apps/apps.ts'
import type { Database } from '../database.ts'
import { devices, users } from '../tables.ts'

export type DeviceRow = typeof devices.$inferSelect & { readonly user: string | null }

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
const deviceColumns = named.map(([name, column]) => `d.${column.name} as ${name}`)
/** For a statement that names one table only. */
export const bareDeviceColumns = named.map(([name, column]) => `${column.name} as ${name}`).join(', ')

/** Devices with their app, as they call: by hand, since every call of a device begins with it. */
export async function findDevicesBySecrets(
  database: Database,
  secretHashes: Buffer[],
): Promise<{ device: DeviceRow; app: AppRow }[]> {
  type Raw = Omit<DeviceRow, 'id' | 'muted'> & AppColumns & { id: Buffer; muted: number }
  const rows = await database.rows<Raw>(
    `select ${deviceColumns.join(', ')}, u.name as user, ${appColumns}
     from devices d join apps a on a.no = d.app_no left join users u on u.no = d.user_no
     where d.secret_hash in (?)`,
    [secretHashes],
  )
  return rows.map(({ appSlug, appName, appIdentifiers, appCreatedAt, ...row }) => ({
    device: { ...row, id: uuidFromBytes(row.id), muted: row.muted === 1 },
    app: appOf(row.appNo, { appSlug, appName, appIdentifiers, appCreatedAt }),
  }))
}

export type DeviceSort = 'newest' | 'changed' | 'quietest'

/** Where a row stands in the list in its order. */
export const devicePlace = (row: Pick<DeviceRow, 'no' | 'changedAt'>, sort: DeviceSort): string =>
  sort === 'newest' ? String(row.no) : `${row.changedAt.getTime()}-${row.no}`

export type DeviceFilter = {
  readonly sort?: DeviceSort | undefined
  readonly limit: number
  readonly after?: string | undefined
  readonly user?: string | undefined
  readonly platform?: Platform | undefined
}

export function listDevices(database: Database, scope: Scope, filter: DeviceFilter): Promise<DeviceRow[]> {
  const sort = filter.sort ?? 'newest'
  const order = sort === 'quietest' ? asc : desc
  return database.use((db) =>
    db
      .select(columns)
      .from(devices)
      .leftJoin(users, eq(users.no, devices.userNo))
      .where(
        and(
          ...inScope(scope),
          behind(sort, filter.after),
          filter.user === undefined ? undefined : eq(users.name, filter.user),
          filter.platform === undefined ? undefined : eq(devices.platform, filter.platform),
        ),
      )
      .orderBy(...(sort === 'newest' ? [] : [order(devices.changedAt)]), order(devices.no))
      .limit(filter.limit),
  )
}

/** What comes behind a place, in an order; a place that cannot be read has nothing behind it. */
function behind(sort: DeviceSort, place: string | undefined) {
  if (place === undefined) return undefined
  const [first = Number.NaN, second = Number.NaN] = place.split('-').map(Number)
  if (sort === 'newest') return Number.isNaN(first) ? sql`false` : lt(devices.no, first)
  if (Number.isNaN(first) || Number.isNaN(second)) return sql`false`
  const at = new Date(first)
  const beyond = sort === 'quietest' ? gt : lt
  return or(beyond(devices.changedAt, at), and(eq(devices.changedAt, at), beyond(devices.no, second)))
}

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
