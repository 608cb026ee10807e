import { randomBytes } from 'node:crypto'
import { sql } from 'drizzle-orm'
import type { Database } from './database.ts'

const leaseSeconds = 60

/**
 * Does something that one process does at a time, whoever they are.
 * @param act asks between its steps whether it may go on: whoever was away for longer than the lease may not
 * @returns undefined when another one is at it
 */
export async function underLease<T>(
  database: Database,
  name: string,
  act: (mayGoOn: () => Promise<boolean>) => Promise<T>,
): Promise<T | undefined> {
  const owner = randomBytes(16)
  const until = sql`utc_timestamp(3) + interval ${leaseSeconds} second`
  await database.change(
    sql`insert into leases (name, owner, until_at) values (${name}, ${owner}, ${until})
        on duplicate key update owner = if(until_at <= utc_timestamp(3), value(owner), owner),
          until_at = if(owner = value(owner), value(until_at), until_at)`,
  )
  const renew = async () => {
    const { affectedRows } = await database.change(
      sql`update leases set until_at = ${until} where name = ${name} and owner = ${owner} and until_at > utc_timestamp(3)`,
    )
    return affectedRows === 1
  }
  if (!(await renew())) return undefined
  try {
    return await act(renew)
  } finally {
    await database.change(sql`delete from leases where name = ${name} and owner = ${owner}`)
  }
}
