import { connect as connectSocket, isIP } from 'node:net'
import { authPlugins, type Connection, createConnection, type FieldPacket } from 'mysql2'
import type { DatabaseAddress } from './address.ts'
import { passwordInClear, SourceFault, socketFault, tookTooLong } from './fault.ts'
import { ReceivedBytes } from './received-bytes.ts'
import type { Column, ColumnType, RawValue, SqlConnection } from './sql-connection.ts'

/** Types of the protocol that hold numbers (MariaDB’s column definition packet). */
const whole = new Set([1, 2, 3, 8, 9, 13])
const fractions = new Set([0, 4, 5, 246])
const moments = new Set([7, 12])
const blobs = new Set([249, 250, 251, 252, 253, 254])
const bits = 16
const geometry = 255
const binaryCharset = 63

/** Where an address leads, and how long its answers may take. */
export type Opening = {
  readonly ip: string
  readonly ssl: object | undefined
  readonly place: string
  readonly withinMs: number
}

/** @throws {SourceFault} */
export async function mysqlConnection(
  { host, user, password, database, port }: DatabaseAddress,
  { ip, ssl, place, withinMs }: Opening,
): Promise<SqlConnection> {
  if (ssl && isIP(host) !== 0)
    throw new SourceFault(
      `is at ${place}, and a certificate is verified by a name: say the host’s name, or put ?tls=off behind its address`,
    )
  const received = new ReceivedBytes()
  const connection = createConnection({
    // By its name the certificate is verified; what is called is the address that was looked up.
    host,
    port,
    stream: () => received.watch(connectSocket({ host: ip, port })),
    user,
    password,
    database,
    ...(ssl ? { ssl: ssl as never } : { authPlugins: withoutClearPassword(place) as never }),
    connectTimeout: 5_000,
    charset: 'utf8mb4',
    timezone: 'Z',
    dateStrings: true,
    supportBigNumbers: true,
    decimalNumbers: true,
    jsonStrings: true,
    multipleStatements: false,
    // A server may ask its client for a file of the client’s; this one has none to give.
    flags: ['-LOCAL_FILES'],
  })
  // What is said while nobody asks is heard by whoever asks next.
  connection.on('error', () => {})
  const failed = (error: unknown): SourceFault => received.fault ?? faultOf(error, place, withinMs)
  const say = (text: string): Promise<void> =>
    received.during(
      new Promise((done, fail) => {
        connection.query({ sql: text, timeout: withinMs }, (error) => (error ? fail(failed(error)) : done()))
      }),
    )
  await received.during(
    new Promise<void>((done, fail) => {
      connection.connect((error) => (error ? fail(failed(error)) : done()))
    }),
  )
  try {
    await say(`set session transaction isolation level repeatable read, read only`)
    await say(`set session time_zone = '+00:00'`)
    // MariaDB counts in seconds, MySQL in milliseconds under another name.
    await say(`set session max_statement_time = ${withinMs / 1_000}`).catch(() =>
      say(`set session max_execution_time = ${withinMs}`),
    )
  } catch (error) {
    connection.destroy()
    throw error
  }
  return {
    dialect: 'mysql',
    begin: () => say('start transaction with consistent snapshot, read only'),
    end: () => say('rollback'),
    each: (text, values, take) => received.during(each(connection, text, values, take, { failed, withinMs, received })),
    // Whether the server hears it does not matter any more.
    hangUp: () => connection.end(() => {}),
    destroy: () => connection.destroy(),
  }
}

/**
 * Ways to sign in by which the password would leave readably, or by a key that the server itself sends, are refused; those by a
 * digest of it and of a number of the server’s are left.
 */
function withoutClearPassword(place: string) {
  const refuse = (): never => {
    throw passwordInClear(place)
  }
  return {
    mysql_clear_password: () => refuse,
    sha256_password: () => refuse,
    caching_sha2_password: authPlugins.caching_sha2_password({ onServerPublicKey: refuse }),
  }
}

function each(
  connection: Connection,
  text: string,
  values: readonly RawValue[],
  take: (values: readonly RawValue[], columns: readonly Column[]) => void,
  {
    failed,
    withinMs,
    received,
  }: {
    readonly failed: (error: unknown) => SourceFault
    readonly withinMs: number
    readonly received: ReceivedBytes
  },
): Promise<readonly Column[]> {
  return new Promise((resolve, reject) => {
    let columns: Column[] = []
    let refused: unknown
    const settle = (act: () => void) => {
      connection.off('error', onError)
      act()
    }
    const fail = (error: unknown) => settle(() => reject(error))
    const onError = (error: unknown) => fail(refused ?? failed(error))
    // A connection that is lost says so itself, not by the statement that it carries.
    connection.on('error', onError)
    const query = connection.query({
      sql: text,
      values: [...values],
      rowsAsArray: true,
      timeout: withinMs + 1_000,
    })
    query
      .on('fields', (fields: FieldPacket[] | undefined) => {
        received.reset()
        columns = (fields ?? []).map(columnOf)
      })
      .on('result', (row: unknown) => {
        received.reset()
        if (refused !== undefined || !Array.isArray(row)) return
        try {
          take(row as RawValue[], columns)
        } catch (error) {
          refused = error
          // Nothing more of it is wanted, and only its end would stop it.
          connection.destroy()
          fail(error)
        }
      })
      .on('error', onError)
      .on('end', () => settle(() => resolve(columns)))
  })
}

function columnOf({ name, columnType, type, columnLength, characterSet }: FieldPacket): Column {
  const code = columnType ?? type ?? 253
  const of = (columns: ColumnType): Column => ({ name, type: columns, isWhole: false })
  if (code === 1 && columnLength === 1) return of('boolean')
  if (code === bits) return columnLength === 1 ? of('boolean') : of('binary')
  if (whole.has(code)) return { name, type: 'number', isWhole: true }
  if (fractions.has(code)) return of('number')
  if (moments.has(code)) return of('timestamp')
  if (code === geometry || (blobs.has(code) && characterSet === binaryCharset)) return of('binary')
  return of('text')
}

/** What MariaDB and MySQL call a statement that took too long; the driver has no name for the first. */
const tooLong = new Set([1969, 3024])

function faultOf(error: unknown, place: string, withinMs: number): SourceFault {
  const { code = '', errno = 0, message = '' } = error as { code?: string; errno?: number; message?: string }
  if (error instanceof SourceFault) return error
  if (tooLong.has(errno) || code === 'PROTOCOL_SEQUENCE_TIMEOUT') return tookTooLong(withinMs)
  switch (code) {
    case 'ER_ACCESS_DENIED_ERROR':
    case 'ER_DBACCESS_DENIED_ERROR':
    case 'ER_ACCESS_DENIED_NO_PASSWORD_ERROR':
      return new SourceFault(`refuses the user or the password at ${place}`)
    case 'ER_BAD_DB_ERROR':
      return new SourceFault(`has no such database at ${place}`)
    case 'ER_TABLEACCESS_DENIED_ERROR':
    case 'ER_COLUMNACCESS_DENIED_ERROR':
      return new SourceFault(`may not be read by its user: ${message}`)
    case 'HANDSHAKE_NO_SSL_SUPPORT':
      return new SourceFault(`speaks no TLS at ${place}; put ?tls=off behind its address to go without`)
    default:
      return socketFault(error, place) ?? new SourceFault(`cannot be read: ${message}`)
  }
}
