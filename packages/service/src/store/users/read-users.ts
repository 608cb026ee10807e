import { type Direction, type PersonSort, personSorts } from '@zbell/contract'
import type { Scope } from '../apps/apps.ts'
import type { Database } from '../database.ts'
import { inOrder, type Placed, type SortKey } from '../in-order.ts'
import { listAttributes } from './attributes.ts'

export type UserRow = {
  readonly no: number
  readonly name: string | null
  readonly createdAt: Date
  readonly changedAt: Date
  readonly devices: number
}

const columns = `u.no, u.name, u.created_at as createdAt, u.changed_at as changedAt,
  (select count(*) from devices d where d.user_no = u.no and d.retired_at is null) as devices`

const sortKeys: Readonly<Record<Exclude<PersonSort, `attribute.${string}`>, SortKey>> = {
  createdAt: { by: 'u.no' },
  changedAt: { by: 'u.changed_at' },
  user: { by: 'u.name' },
  devices: { by: '(select count(*) from devices d where d.user_no = u.no and d.retired_at is null)' },
  topics: { by: '(select count(*) from topic_users m where m.user_no = u.no)' },
}

export type UserFilter = {
  readonly sort?: PersonSort | undefined
  readonly order?: Direction | undefined
  readonly limit: number
  readonly after?: string | undefined
  readonly search?: string | undefined
  readonly topic?: string | undefined
}

/** People with a name, the newest first unless another order is asked for. */
export async function listUsers(
  database: Database,
  scope: Scope,
  {
    sort = 'createdAt',
    order = isAttribute(sort) ? 'ascending' : personSorts[sort],
    after,
    search,
    topic,
    limit,
  }: UserFilter,
): Promise<(UserRow & Placed)[]> {
  const { key, join } = await sortedBy(database, scope, sort)
  const ordered = inOrder(key, 'u.no', order, after)
  const conditions = ['u.app_no = ?', 'u.environment = ?', 'u.name is not null', ordered.where]
  const values: unknown[] = [scope.app.no, scope.environment, ...ordered.values]
  const where = (condition: string, value: unknown) => {
    conditions.push(condition)
    values.push(value)
  }
  if (search) where('u.name like ?', `${search.replace(/[\\%_]/g, '\\$&')}%`)
  if (topic) {
    where(
      `u.no in (select t.user_no from topic_users t join topics p on p.no = t.topic_no
        where p.app_no = u.app_no and p.environment = u.environment and p.name = ?)`,
      topic,
    )
  }
  return database.rows<UserRow & Placed>(
    `select ${columns}, ${ordered.column} from users u ${join}
     where ${conditions.join(' and ')} order by ${ordered.orderBy} limit ?`,
    [...values, limit],
  )
}

/** An attribute that nobody has orders nothing: then all are equal, and the newest decides. */
async function sortedBy(
  database: Database,
  scope: Scope,
  sort: PersonSort,
): Promise<{ readonly key: SortKey; readonly join: string }> {
  if (!isAttribute(sort)) return { key: sortKeys[sort], join: '' }
  const wanted = sort.slice('attribute.'.length)
  const attribute = (await listAttributes(database, scope)).find(({ name }) => name === wanted)
  if (!attribute) return { key: sortKeys.createdAt, join: '' }
  return {
    key: { by: attribute.type === 'text' ? 'v.text collate utf8mb4_unicode_ci' : 'v.number', nullable: true },
    join: `left join user_attributes v on v.user_no = u.no and v.attribute_no = ${attribute.no}`,
  }
}

const isAttribute = (sort: PersonSort): sort is `attribute.${string}` => sort.startsWith('attribute.')

export async function findUser(
  database: Database,
  { app, environment }: Scope,
  name: string,
): Promise<UserRow | undefined> {
  const [row] = await database.rows<UserRow>(
    `select ${columns} from users u where u.app_no = ? and u.environment = ? and u.name = ?`,
    [app.no, environment, name],
  )
  return row
}
