import type { Scope } from '../apps/apps.ts'
import type { Database } from '../database.ts'

export type UserRow = {
  readonly no: number
  readonly name: string | null
  readonly createdAt: Date
  readonly changedAt: Date
  readonly devices: number
}

const columns = `u.no, u.name, u.created_at as createdAt, u.changed_at as changedAt,
  (select count(*) from devices d where d.user_no = u.no and d.retired_at is null) as devices`

/** Where a row stands in the list in its order. */
export const userPlace = ({ no, name }: UserRow, sort: 'newest' | 'name'): string =>
  sort === 'newest' ? String(no) : Buffer.from(name ?? '').toString('base64url')

export type UserFilter = {
  readonly sort?: 'newest' | 'name' | undefined
  readonly limit: number
  readonly after?: string | undefined
  readonly search?: string | undefined
  readonly topic?: string | undefined
}

/** People with a name. */
export function listUsers(database: Database, { app, environment }: Scope, filter: UserFilter): Promise<UserRow[]> {
  const conditions = ['u.app_no = ?', 'u.environment = ?', 'u.name is not null']
  const values: unknown[] = [app.no, environment]
  const where = (condition: string, value: unknown) => {
    conditions.push(condition)
    values.push(value)
  }
  const byName = filter.sort === 'name'
  if (filter.after !== undefined) {
    if (byName) where('u.name > ?', Buffer.from(filter.after, 'base64url').toString())
    else where('u.no < ?', Number(filter.after) || 0)
  }
  if (filter.search) where('u.name like ?', `${filter.search.replace(/[\\%_]/g, '\\$&')}%`)
  if (filter.topic) {
    where(
      `u.no in (select t.user_no from topic_users t join topics p on p.no = t.topic_no
        where p.app_no = u.app_no and p.environment = u.environment and p.name = ?)`,
      filter.topic,
    )
  }
  return database.rows<UserRow>(
    `select ${columns} from users u where ${conditions.join(' and ')} order by ${byName ? 'u.name' : 'u.no desc'} limit ?`,
    [...values, filter.limit],
  )
}

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
