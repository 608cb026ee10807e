import { createConnection, type RowDataPacket } from 'mysql2/promise'
import { Database } from '../../../packages/service/src/database/database.ts'
import { migrate } from '../../../packages/service/src/database/migrate.ts'

/** Migrates an empty database. @returns the statements that make another like it */
export async function readSchema(url: string): Promise<string> {
  const database = new Database({ url, connections: 2 })
  await migrate(database)
  await database.close()
  const connection = await createConnection(url)
  try {
    const [tables] = await connection.query<RowDataPacket[]>('show tables')
    const statements = ['set foreign_key_checks = 0']
    for (const table of tables) {
      const name = String(Object.values(table)[0])
      const [[definition]] = await connection.query<RowDataPacket[]>(`show create table \`${name}\``)
      statements.push(String(definition!['Create Table']))
      const [rows] = await connection.query<RowDataPacket[]>(`select * from \`${name}\``)
      for (const row of rows)
        statements.push(connection.format('insert into ?? values (?)', [name, Object.values(row)]))
    }
    return statements.map((one) => `${one};`).join('\n')
  } finally {
    await connection.end()
  }
}
