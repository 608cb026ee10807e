import { Socket } from 'node:net'
import { Client, Query } from 'pg'
import type { DatabaseAddress } from './address.ts'
import { passwordInClear, SourceFault, socketFault, tookTooLong } from './fault.ts'
import type { Opening } from './mysql-connection.ts'
import { ReceivedBytes } from './received-bytes.ts'
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
const batchRows = 2_000

type Result = { readonly fields: readonly { readonly name: string; readonly dataTypeID: number }[] }
/** What the driver has of a connection, and its types do not. */
type Inner = { readonly connection: { readonly stream: Socket; on(event: string, hear: () => void): void } }

/** @throws {SourceFault} */
export async function postgresConnection(
  { user, password, database, port }: DatabaseAddress,
  { ip, ssl, place, withinMs }: Opening,
): Promise<SqlConnection> {
  const received = new ReceivedBytes()
  let isClear = false
  const client = new Client({
    host: ip,
    port,
    user,
    // As a function, so that no file and no variable of this machine stands in for an empty one.
    password: () => {
      if (isClear && !ssl) throw passwordInClear(place)
      return password
    },
    stream: () => received.watch(new Socket()),
    database,
    ssl: ssl ?? false,
    connectionTimeoutMillis: 5_000,
    statement_timeout: withinMs,
    application_name: 'zephyr-bell',
    // Values stay the text that they are, and are read by the type of their column.
    types: { getTypeParser: () => (text: string) => text } as never,
  })
  client.on('error', () => {})
  const { connection } = client as unknown as Inner
  connection.on('authenticationCleartextPassword', () => {
    isClear = true
  })
  const failed = (error: unknown): SourceFault => received.fault ?? faultOf(error, place, withinMs)
  const ask = (
    text: string,
    values: readonly RawValue[] = [],
    onRow: (row: RawValue[], result: Result) => void = () => {},
  ): Promise<Result> =>
    received.during(
      new Promise((done, fail) => {
        // The extended protocol takes one statement at a time.
        const query = new Query({ text, values: [...values], rowMode: 'array', queryMode: 'extended' } as never)
        const giveUp = (error: unknown) => {
          clearTimeout(timer)
          connection.stream.destroy()
          fail(error)
        }
        const timer = setTimeout(() => giveUp(tookTooLong(withinMs)), withinMs + 1_000)
        query.on('row', (row, result) => {
          received.reset()
          try {
            onRow(row as RawValue[], result as unknown as Result)
          } catch (error) {
            // Nothing more of it is wanted, and only its end would stop it.
            giveUp(error)
          }
        })
        query.on('error', (error) => {
          clearTimeout(timer)
          fail(failed(error))
        })
        query.on('end', (result) => {
          clearTimeout(timer)
          received.reset()
          done(result as unknown as Result)
        })
        client.query(query)
      }),
    )
  try {
    await received.during(client.connect())
    await received.during(
      client.query(
        `set session characteristics as transaction isolation level repeatable read, read only; set timezone = 'UTC'; set datestyle = 'ISO'`,
      ),
    )
  } catch (error) {
    client.end().catch(() => {})
    throw failed(error)
  }
  const columnsOf = ({ fields }: Result): Column[] =>
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
      await ask(`declare polled no scroll cursor for ${text}`, values)
      for (;;) {
        let rows = 0
        let columns: readonly Column[] | undefined
        const result = await ask(`fetch ${batchRows} from polled`, [], (row, of) => {
          rows++
          columns ??= columnsOf(of)
          take(row, columns)
        })
        if (rows === batchRows) continue
        await ask('close polled')
        return columns ?? columnsOf(result)
      }
    },
    // Whether the server hears it does not matter any more.
    hangUp: () => void client.end().catch(() => {}),
    destroy: () => void connection.stream.destroy(),
  }
}

function faultOf(error: unknown, place: string, withinMs: number): SourceFault {
  if (error instanceof SourceFault) return error
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
