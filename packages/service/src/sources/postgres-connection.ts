import { Client } from 'pg'
import type { DatabaseAddress } from './address.ts'
import { SourceFault, socketFault, tookTooLong } from './fault.ts'
import type { Opening } from './mysql-connection.ts'
import type { Column, ColumnType, RawValue, SqlConnection } from './sql-connection.ts'

/** Object identifiers of its own types (PostgreSQL’s catalogue pg_type). */
const types = new Map<number, ColumnType>([
  [16, 'boolean'],
  ...[20, 21, 23, 26, 700, 701, 1700].map((oid) => [oid, 'number'] as const),
  [1114, 'timestamp'],
  [1184, 'timestamp'],
  [17, 'binary'],
])
const whole = new Set([20, 21, 23, 26])
/** So many rows come at a time. */
const together = 2_000

type Answer = { readonly rows: RawValue[][]; readonly fields: { readonly name: string; readonly dataTypeID: number }[] }

/** @throws {SourceFault} */
export async function postgresConnection(
  { user, password, database, port }: DatabaseAddress,
  { ip, ssl, place, withinMs }: Opening,
): Promise<SqlConnection> {
  const client = new Client({
    host: ip,
    port,
    user,
    // As a function, so that no file and no variable of this machine stands in for an empty one.
    password: () => password,
    database,
    ssl: ssl ?? false,
    connectionTimeoutMillis: 5_000,
    statement_timeout: withinMs,
    query_timeout: withinMs + 1_000,
    application_name: 'zephyr-bell',
    // Values stay the text that they are, and are read by the type of their column.
    types: { getTypeParser: () => (text: string) => text } as never,
  })
  client.on('error', () => {})
  const failed = (error: unknown): SourceFault => faultOf(error, place, withinMs)
  const ask = async (text: string, values: readonly RawValue[] = []): Promise<Answer> => {
    try {
      // The extended protocol takes one statement at a time.
      const query = { text, values: [...values], rowMode: 'array', queryMode: 'extended' }
      return (await client.query(query as never)) as unknown as Answer
    } catch (error) {
      throw failed(error)
    }
  }
  try {
    await client.connect()
    await client.query(
      `set session characteristics as transaction isolation level repeatable read, read only; set timezone = 'UTC'; set datestyle = 'ISO'`,
    )
  } catch (error) {
    client.end().catch(() => {})
    throw failed(error)
  }
  const columnsOf = ({ fields }: Answer): Column[] =>
    fields.map(({ name, dataTypeID }) => ({
      name,
      type: types.get(dataTypeID) ?? 'text',
      isWhole: whole.has(dataTypeID),
    }))
  return {
    dialect: 'postgres',
    begin: async () => void (await ask('begin')),
    end: async () => void (await ask('rollback')),
    async each(text, values, take) {
      await ask(`declare look no scroll cursor for ${text}`, values)
      for (;;) {
        const answer = await ask(`fetch ${together} from look`)
        const columns = columnsOf(answer)
        for (const row of answer.rows) take(row, columns)
        if (answer.rows.length < together) {
          await ask('close look')
          return columns
        }
      }
    },
    // Whether the server hears it does not matter any more.
    hangUp: () => void client.end().catch(() => {}),
    destroy: () => {
      const { connection } = client as unknown as { connection: { stream: { destroy(): void } } }
      connection.stream.destroy()
    },
  }
}

function faultOf(error: unknown, place: string, withinMs: number): SourceFault {
  const { code = '', message = '' } = error as { code?: string; message?: string }
  switch (code) {
    case '28000':
    case '28P01':
      return new SourceFault(`refuses the user or the password at ${place}`)
    case '3D000':
      return new SourceFault(`has no such database at ${place}`)
    case '57014':
      return tookTooLong(withinMs)
    case '42501':
      return new SourceFault(`may not be read by its user: ${message}`)
    default:
      if (/does not support SSL/.test(message))
        return new SourceFault(`speaks no TLS at ${place}; put ?tls=off behind its address to go without`)
      if (/timeout/i.test(message) && code === '') return new SourceFault(`did not answer in time at ${place}`)
      if (/Connection terminated/.test(message)) return new SourceFault(`hung up at ${place}`)
      return socketFault(error, place) ?? new SourceFault(`cannot be read: ${message}`)
  }
}
