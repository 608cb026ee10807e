import { type DeviceSort, type Direction, deviceSorts } from '@zbell/contract'
import { type Environment, handsetMark, type Platform, uuidFromBytes } from '@zbell/core'
import { and, desc, eq, getTableColumns, isNull, notLike } from 'drizzle-orm'
import { type AppColumns, type AppRow, appColumns, appOf, type Scope } from '../apps/apps.ts'
import type { Database } from '../database.ts'
import { inOrder, type Placed, type SortKey } from '../in-order.ts'
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

/** Versions as people count: 4.10.0 comes after 4.9.2. */
const version = (column: string): SortKey => ({ by: `natural_sort_key(${column})`, nullable: true })
const text = (column: string): SortKey => ({ by: `${column} collate utf8mb4_unicode_ci`, nullable: true })

const sortKeys: Readonly<Record<DeviceSort, SortKey>> = {
  // A number goes up with each registration, and the table is kept in its order.
  registeredAt: { by: 'd.no' },
  changedAt: { by: 'd.changed_at' },
  seenAt: { by: 'd.seen_at' },
  receiptAt: { by: 'd.receipt_at', nullable: true },
  user: { by: 'u.name', nullable: true },
  // As text, since an enumeration sorts by its places.
  platform: { by: 'cast(d.platform as char)' },
  model: text('d.model'),
  reach: {
    by: "case when d.retired_at is not null then 3 when d.permission <> 'granted' then 2 when d.muted then 1 else 0 end",
  },
  locale: text('d.locale'),
  timeZone: text('d.time_zone'),
  appVersion: version('d.app_version'),
  systemVersion: version('d.system_version'),
}

export type DeviceFilter = {
  readonly sort?: DeviceSort | undefined
  readonly order?: Direction | undefined
  readonly limit: number
  readonly after?: string | undefined
  readonly user?: string | undefined
  readonly platform?: Platform | undefined
}

/** The newest first, unless another order is asked for. */
export async function listDevices(
  database: Database,
  { app, environment }: Scope,
  { sort = 'registeredAt', order = deviceSorts[sort], after, user, platform, limit }: DeviceFilter,
): Promise<(DeviceRow & Placed)[]> {
  type Raw = Omit<DeviceRow, 'id' | 'muted'> & Placed & { id: Buffer; muted: number }
  const ordered = inOrder(sortKeys[sort], 'd.no', order, after)
  const rows = await database.rows<Raw>(
    `select ${deviceColumns.join(', ')}, u.name as user, ${ordered.column}
     from devices d left join users u on u.no = d.user_no
     where d.app_no = ? and d.environment = ? and ${ordered.where}
       ${user === undefined ? '' : 'and u.name = ?'} ${platform === undefined ? '' : 'and d.platform = ?'}
     order by ${ordered.orderBy} limit ?`,
    [app.no, environment, ...ordered.values, ...[user, platform].filter((one) => one !== undefined), limit],
  )
  return rows.map((row) => ({ ...row, id: uuidFromBytes(row.id), muted: row.muted === 1 }))
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
