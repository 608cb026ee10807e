import { type SQL, sql } from 'drizzle-orm'
import { drizzle, type MySql2Database } from 'drizzle-orm/mysql2'
import { createPool, type Pool, type PoolConnection, type ResultSetHeader, type RowDataPacket } from 'mysql2/promise'
import pLimit, { type LimitFunction } from 'p-limit'
import { Abandoned, isDuplicateEntry, isMomentary, isTimeout, translateError, worthAnotherTry } from './errors.ts'
import { type Change, compile, fragmentOf } from './fragments.ts'
import { type RetryOptions, retryDefaults, withRetry } from './with-retry.ts'

export type DatabaseOptions = {
  readonly url: string
  readonly connections: number
  /** Who signs the server’s certificate, PEM; without it no TLS is spoken. */
  readonly ca?: readonly string[] | undefined
  /** How long work that loses against other transactions is done again. */
  readonly retry?: RetryOptions
  /** Nobody waits longer for a row that another transaction holds. */
  readonly lockWaitSeconds?: number
}

/** A statement that takes longer means a database that stands still. */
const statementTimeoutMs = 10_000
/**
 * The same on every server: strict, and with the backslash as the driver escapes it. Where a server’s own mode said otherwise, a
 * text could end where it should not.
 */
const sqlMode = 'STRICT_TRANS_TABLES,ERROR_FOR_DIVISION_BY_ZERO,NO_ENGINE_SUBSTITUTION'
/** Well before a statement that waits counts as one that stands still. */
const lockWaitSecondsDefault = 5

export type Row = RowDataPacket
/** What reads, with or without bounds. */
export type Reader = Pick<Database, 'rows'>
/** One connection inside a transaction. */
export type Tx = Pick<Session, 'rows' | 'change'>

class Session {
  readonly #on: PoolConnection

  constructor(on: PoolConnection) {
    this.#on = on
  }

  async rows<T = Row>(query: SQL, timeout = statementTimeoutMs): Promise<T[]> {
    const [rows] = await this.#on.query<RowDataPacket[]>({ ...compile(query), timeout })
    return rows as T[]
  }

  async change(statement: Change): Promise<ResultSetHeader> {
    const [result] = await this.#on.query<ResultSetHeader>({ ...compile(statement), timeout: statementTimeoutMs })
    return result
  }

  /** Several statements in one journey. @returns what the last of them found */
  async compound<T>(statement: SQL): Promise<T[]> {
    // A compound statement answers with each of its results, the last of them being that of the whole.
    const [results] = await this.#on.query<RowDataPacket[][]>({ ...compile(statement), timeout: statementTimeoutMs })
    return (results[0] ?? []) as T[]
  }
}

/** So many statements go in one journey. */
const batchSize = 100

/** Runs statements within a transaction, many of them in one journey to the server. */
export async function changeTogether(tx: Tx, statements: readonly Change[]): Promise<void> {
  for (let at = 0; at < statements.length; at += batchSize) {
    const some = statements.slice(at, at + batchSize).map((one) => sql`${fragmentOf(one)};`)
    await tx.change(sql`begin not atomic ${sql.join(some, sql`\n`)} end`)
  }
}

/**
 * The one way to MariaDB. A statement is a fragment of Drizzle's (`` sql`…` ``), which carries its values, or comes from its
 * query builder (`use`). Every error leaves here translated.
 */
export class Database {
  readonly #pool: Pool
  readonly #db: MySql2Database
  readonly #retry: RetryOptions
  /** Half of the connections are never lent to what may look through a million rows: sending goes on beside it. */
  readonly #inTurn: LimitFunction

  constructor(options: DatabaseOptions) {
    const { retry = retryDefaults, lockWaitSeconds = lockWaitSecondsDefault } = options
    this.#retry = retry
    this.#inTurn = pLimit(Math.max(1, Math.floor(options.connections / 2)))
    this.#pool = createPool({
      uri: options.url.replace(/^mariadb:/, 'mysql:'),
      connectionLimit: options.connections,
      ...(options.ca && { ssl: { ca: [...options.ca], minVersion: 'TLSv1.2', verifyIdentity: true } }),
      queueLimit: 5_000,
      connectTimeout: 3_000,
      timezone: 'Z',
      charset: 'utf8mb4',
      supportBigNumbers: true,
      enableKeepAlive: true,
      // Of whoever asked the errors tell by themselves; to note it with every statement takes 20 µs.
      trace: false,
    })
    this.#pool.on('connection', (connection) => {
      // The event hands over the driver's own connection, without promises. What goes wrong here goes wrong with the
      // statement behind it as well, and is heard there.
      const own = connection as unknown as { query(sql: string, done: (error: unknown) => void): void; destroy(): void }
      own.query(
        `set session innodb_lock_wait_timeout = ${lockWaitSeconds}, session sql_mode = '${sqlMode}'`,
        // What escapes a text depends on the mode: nothing is said on a connection that has another one.
        (error) => error && own.destroy(),
      )
    })
    this.#db = drizzle(this.#pool, { mode: 'planetscale' })
  }

  /** Runs statements of the query builder. */
  async use<T>(statement: (db: MySql2Database) => Promise<T>): Promise<T> {
    return translated(() => statement(this.#db))
  }

  /**
   * Reads. One statement is a transaction too, so it runs again when it loses against another; and since it changes nothing, once
   * more on another connection when its own is lost or does not answer in time.
   */
  async rows<T = Row>(query: SQL): Promise<T[]> {
    return onceMore(() => this.#with((session) => session.rows<T>(query)))
  }

  async change(statement: Change): Promise<ResultSetHeader> {
    return this.#with((session) => session.change(statement))
  }

  /** Whether it answers. @throws {DatabaseUnavailable} when it does not */
  async ping(): Promise<void> {
    await this.rows(sql`select 1`)
  }

  /**
   * Runs statements as one transaction in one journey to the server (MariaDB's compound statement), again when it loses
   * against another. For what a person waits for: each journey of its own costs more than the statement.
   * @param then what is asked at the end
   */
  async compound<T = Row>(statements: readonly Change[], then: SQL): Promise<T[]> {
    const compound = sql`begin not atomic
      declare exit handler for sqlexception begin rollback; resignal; end;
      start transaction;
      ${sql.join(
        statements.map((one) => sql`${fragmentOf(one)};`),
        sql`\n`,
      )}
      commit;
      ${then};
    end`
    return this.#with((session) => session.compound<T>(compound))
  }

  /** The same where nothing is asked at the end. @param statements one by itself is a transaction too */
  async changeAtOnce(statements: readonly Change[]): Promise<void> {
    const [first, ...others] = statements
    if (!first) return
    if (others.length === 0) await this.change(first)
    else await this.compound(statements, sql`select 1`)
  }

  /** Runs a short transaction, again when it loses against another; so it must do nothing but speak to the database. */
  async transact<T>(work: (tx: Tx) => Promise<T>): Promise<T> {
    return this.#transact(work, worthAnotherTry)
  }

  /** The same, again also when a row with one of its keys was stored meanwhile: for what looks first, and then stores what is new. */
  async transactAnew<T>(work: (tx: Tx) => Promise<T>): Promise<T> {
    return this.#transact(work, (error) => worthAnotherTry(error) || isDuplicateEntry(error))
  }

  #transact<T>(work: (tx: Tx) => Promise<T>, isWorthIt: (error: unknown) => boolean): Promise<T> {
    const transaction = async (session: Session, connection: PoolConnection): Promise<T> => {
      await connection.query({ sql: 'START TRANSACTION', timeout: statementTimeoutMs })
      const result = await work(session)
      await connection.query({ sql: 'COMMIT', timeout: statementTimeoutMs })
      return result
    }
    return this.#with(transaction, { undo: 'ROLLBACK', isWorthIt })
  }

  /**
   * Lends a connection, again and again while the work loses against others.
   * @param undo said after a failure
   */
  #with<T>(
    work: (session: Session, connection: PoolConnection) => Promise<T>,
    { undo, isWorthIt = worthAnotherTry }: { undo?: string; isWorthIt?: (error: unknown) => boolean } = {},
  ): Promise<T> {
    return withRetry(
      async () => {
        const connection = await onceMore(() => this.#pool.getConnection())
        try {
          const result = await work(new Session(connection), connection)
          connection.release()
          return result
        } catch (error) {
          // On a connection that still waits for an answer nothing more can be said; and one that cannot roll back must not
          // go back to the pool with a transaction open.
          if (isTimeout(error)) connection.destroy()
          else if (undo === undefined) connection.release()
          else
            await connection.query({ sql: undo, timeout: statementTimeoutMs }).then(
              () => connection.release(),
              () => connection.destroy(),
            )
          throw error
        }
      },
      this.#retry,
      isWorthIt,
    )
  }

  /**
   * Reads that are stopped, in the database itself, when they take too long or when nobody waits for them any more. They
   * have half of the connections, one after the other beyond that.
   * @throws {TooSlow} from `rows`, for one that took too long @throws {Abandoned} for one that nobody waited for
   */
  bounded({ withinMs, signal }: { readonly withinMs: number; readonly signal?: AbortSignal | undefined }): Reader {
    const rows = <T>(query: SQL): Promise<T[]> =>
      this.#inTurn(() =>
        this.#with(async (session, connection) => {
          if (signal?.aborted) throw new Abandoned()
          let stopping: Promise<void> | undefined
          const stop = () => {
            stopping = this.#stop(connection.threadId)
          }
          signal?.addEventListener('abort', stop, { once: true })
          try {
            const limited = sql`set statement max_statement_time = ${withinMs / 1_000} for ${query}`
            return await session.rows<T>(limited, withinMs + statementTimeoutMs)
          } catch (error) {
            throw signal?.aborted ? new Abandoned() : error
          } finally {
            signal?.removeEventListener('abort', stop)
            // Only then is the connection lent again: the next question on it must not be the one that is stopped.
            await stopping
          }
        }),
      )
    return { rows }
  }

  async #stop(threadId: number): Promise<void> {
    try {
      await this.#pool.query('kill query ?', [threadId])
    } catch {
      // It has ended meanwhile, or the database is away: nobody waits for it in either case.
    }
  }

  async close(): Promise<void> {
    await this.#pool.end()
  }
}

/** Does what is safe to repeat, once more where the first time met a moment that may have passed. */
async function onceMore<T>(work: () => Promise<T>): Promise<T> {
  try {
    return await work()
  } catch (error) {
    if (!isMomentary(error)) throw error
    return work()
  }
}

async function translated<T>(work: () => Promise<T>): Promise<T> {
  try {
    return await work()
  } catch (error) {
    throw translateError(error)
  }
}
