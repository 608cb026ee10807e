import { type Direction, type PersonSort, personSorts } from '@zbell/contract'
import { type SQL, sql } from 'drizzle-orm'
import {
  allOf,
  type Database,
  inOrder,
  type Placed,
  type Scope,
  type SortKey,
  select,
  topics,
} from '../../database/index.ts'
import { listAttributes } from './attributes.ts'

export type UserRow = {
  readonly no: number
  readonly name: string | null
  readonly createdAt: Date
  readonly changedAt: Date
  readonly devices: number
}

const columns = sql`u.no, u.name, u.created_at as createdAt, u.changed_at as changedAt,
  (select count(*) from devices d where d.user_no = u.no and d.retired_at is null) as devices`

const sortKeys: Readonly<Record<Exclude<PersonSort, `attribute.${string}`>, SortKey>> = {
  createdAt: { by: sql`u.no`, isNumber: true },
  changedAt: { by: sql`u.changed_at` },
  user: { by: sql`u.name`, unique: true },
  devices: { by: sql`(select count(*) from devices d where d.user_no = u.no and d.retired_at is null)` },
  topics: { by: sql`(select count(*) from topic_users m where m.user_no = u.no)` },
}

export type UserFilter = {
  readonly sort?: PersonSort | undefined
  readonly direction?: Direction | undefined
  readonly limit: number
  readonly after?: string | undefined
  readonly search?: string | undefined
  readonly topic?: string | undefined
}

/** A page of a list may take so long; an order that no index gives can take longer on a long list. */
const pageWithinMs = 3_000

/**
 * People with a name, the newest first unless another order is asked for. First the numbers, by an index where there is one;
 * then the rows.
 * @throws {TooSlow} for an order by which too many have to be looked through
 */
export async function listUsers(
  database: Database,
  scope: Scope,
  {
    sort = 'createdAt',
    direction = isAttribute(sort) ? 'ascending' : personSorts[sort],
    after,
    search,
    topic,
    limit,
  }: UserFilter,
): Promise<(UserRow & Placed)[]> {
  const { app, environment } = scope
  const sorted = await sortedBy(database, scope, sort)
  // Whoever joined a topic is found among its members, who lie in the order of their numbers.
  const no = topic !== undefined && sort === 'createdAt' ? sql`m.user_no` : sql`u.no`
  const ordered = inOrder(sort === 'createdAt' ? { by: no, isNumber: true } : sorted.key, no, direction, after)
  const isByName = sort === 'user' || (search ?? '') !== ''
  const conditions = [
    sql`u.app_no = ${app.no}`,
    sql`u.environment = ${environment}`,
    isByName ? sql`u.name is not null` : sql`u.named = 1`,
    ordered.where,
  ]
  if (search) conditions.push(sql`u.name like ${`${search.replace(/[\\%_]/g, '\\$&')}%`}`)
  const from =
    topic === undefined
      ? sql`users u ${indexFor(sort, search)}`
      : sql`topic_users m straight_join users u on u.no = m.user_no`
  if (topic !== undefined) {
    const [found] = await select(
      database,
      { no: topics.no },
      sql`from ${topics} where ${topics.appNo} = ${app.no} and ${topics.environment} = ${environment} and ${topics.name} = ${topic}`,
    )
    if (!found) return []
    conditions.push(sql`m.topic_no = ${found.no}`)
  }
  const places = await database.bounded({ withinMs: pageWithinMs }).rows<Placed>(
    sql`select u.no, ${ordered.column} from ${from} ${sorted.join}
     where ${allOf(conditions)} order by ${ordered.orderBy} limit ${limit}`,
  )
  if (places.length === 0) return []
  const rows = await database.rows<UserRow>(
    sql`select ${columns} from users u where u.no in ${places.map(({ no }) => no)}`,
  )
  const byNo = new Map(rows.map((row) => [row.no, row]))
  return places.flatMap((place) => {
    const row = byNo.get(place.no)
    return row ? [{ ...row, ...place }] : []
  })
}

/** Orders for which an index lies ready. */
const indexFor = (sort: PersonSort, search: string | undefined): SQL => {
  if (sort === 'user' || search) return sql`force index (one_name)`
  if (sort === 'createdAt') return sql`force index (by_age)`
  return sort === 'changedAt' ? sql`force index (by_change)` : sql``
}

/** An attribute that nobody has orders nothing: then all are equal, and the newest decides. */
async function sortedBy(
  database: Database,
  scope: Scope,
  sort: PersonSort,
): Promise<{ readonly key: SortKey; readonly join: SQL }> {
  if (!isAttribute(sort)) return { key: sortKeys[sort], join: sql`` }
  const wanted = sort.slice('attribute.'.length)
  const attribute = (await listAttributes(database, scope)).find(({ name }) => name === wanted)
  if (!attribute) return { key: sortKeys.createdAt, join: sql`` }
  return {
    key: { by: attribute.type === 'text' ? sql`v.text collate utf8mb4_unicode_ci` : sql`v.number`, nullable: true },
    join: sql`left join user_attributes v on v.user_no = u.no and v.attribute_no = ${attribute.no}`,
  }
}

const isAttribute = (sort: PersonSort): sort is `attribute.${string}` => sort.startsWith('attribute.')

export async function findUser(
  database: Database,
  { app, environment }: Scope,
  name: string,
): Promise<UserRow | undefined> {
  const [row] = await database.rows<UserRow>(
    sql`select ${columns} from users u where u.app_no = ${app.no} and u.environment = ${environment} and u.name = ${name}`,
  )
  return row
}
