import { sql } from 'drizzle-orm'
import type { Reader } from '../../database/index.ts'

/** The ids of the master keys that any stored secret is under, as hexadecimal: the four bytes behind a sealed secret's first. */
export async function masterKeysInUse(reader: Reader): Promise<ReadonlySet<string>> {
  const id = (column: string) => sql`lower(hex(substring(${sql.identifier(column)}, 2, 4)))`
  const rows = await reader.rows<{ id: string }>(
    sql`select ${id('sealed')} as id from credentials
        union select ${id('proof_key')} from app_settings where proof_key is not null
        union select ${id('sealed')} from sources
        union select ${id('sealed')} from webhooks`,
  )
  return new Set(rows.map((row) => row.id))
}
