import { drizzle, type MySql2Database } from 'drizzle-orm/mysql2'
import { createPool, type Pool, type PoolConnection, type ResultSetHeader, type RowDataPacket } from 'mysql2/promise'
import { translateError, worthAnotherTry } from './errors.ts'

export type DatabaseOptions = { readonly url: string; readonly connections: number }

/** How often a transaction that lost against another is run again. */
const tries = 6
/** A statement that takes longer means a database that stands still. */
const statementTimeoutMs = 10_000

export type Row = RowDataPacket
/** One connection inside a transaction. */
export type Tx = Pick<Session, 'rows' | 'change'>

class Session {
  readonly #on: Pool | PoolConnection

  constructor(on: Pool | PoolConnection) {
    this.#on = on
  }

  async rows<T = Row>(sql: string, values: unknown[] = []): Promise<T[]> {
    const [rows] = await this.#on.query<RowDataPacket[]>({ sql, values, timeout: statementTimeoutMs })
    return rows as T[]
  }

  async change(sql: string, values: unknown[] = []): Promise<ResultSetHeader> {
    const [result] = await this.#on.query<ResultSetHeader>({ sql, values, timeout: statementTimeoutMs })
    return result
  }
}

/**
 * The one way to MariaDB. Ordinary statements go through Drizzle (`db`), hot ones by hand (`rows`, `change`):
 * the builder takes four times as long for a bulk insert. Every error leaves here translated.
 */
export class Database {
  readonly #pool: Pool
  readonly #session: Session
  readonly #db: MySql2Database

  constructor(options: DatabaseOptions) {
    this.#pool = createPool({
      uri: options.url.replace(/^mariadb:/, 'mysql:'),
      connectionLimit: options.connections,
      queueLimit: 5_000,
      connectTimeout: 3_000,
      timezone: 'Z',
      charset: 'utf8mb4',
      supportBigNumbers: true,
      enableKeepAlive: true,
      // Of whoever asked the errors tell by themselves; to note it with every statement takes 20 µs.
      trace: false,
    })
    this.#session = new Session(this.#pool)
    this.#db = drizzle(this.#pool, { mode: 'planetscale' })
  }

  /** Runs statements of the query builder. */
  async use<T>(statement: (db: MySql2Database) => Promise<T>): Promise<T> {
    return translated(() => statement(this.#db))
  }

  /** One statement is a transaction too, so it runs again when it loses against another. */
  async rows<T = Row>(sql: string, values: unknown[] = []): Promise<T[]> {
    return insistent(() => this.#session.rows<T>(sql, values))
  }

  async change(sql: string, values: unknown[] = []): Promise<ResultSetHeader> {
    return insistent(() => this.#session.change(sql, values))
  }

  /**
   * Runs statements as one transaction in one journey to the server (MariaDB's compound statement), again when it loses
   * against another. For what a person waits for: each journey of its own costs more than the statement.
   * @param then what is asked at the end
   */
  async together<T = Row>(
    statements: readonly { sql: string; values: readonly unknown[] }[],
    then: string,
  ): Promise<T[]> {
    const sql = `begin not atomic
      declare exit handler for sqlexception begin rollback; resignal; end;
      start transaction;
      ${statements.map((one) => `${one.sql};`).join('\n')}
      commit;
      ${then};
    end`
    const values = statements.flatMap((one) => one.values)
    return insistent(async () => {
      // A compound statement answers with each of its results, the last of them being that of the whole.
      const [results] = await this.#pool.query<RowDataPacket[][]>({ sql, values, timeout: statementTimeoutMs })
      return (results[0] ?? []) as T[]
    })
  }

  /** Runs a short transaction, again when it loses against another; so it must do nothing but speak to the database. */
  async transact<T>(work: (tx: Tx) => Promise<T>): Promise<T> {
    return insistent(() => this.#once(work))
  }

  async #once<T>(work: (tx: Tx) => Promise<T>): Promise<T> {
    const connection = await this.#pool.getConnection()
    try {
      await connection.query('START TRANSACTION')
      const result = await work(new Session(connection))
      await connection.query('COMMIT')
      connection.release()
      return result
    } catch (error) {
      // A connection that cannot roll back must not go back to the pool with a transaction open.
      await connection.query('ROLLBACK').then(
        () => connection.release(),
        () => connection.destroy(),
      )
      throw error
    }
  }

  async close(): Promise<void> {
    await this.#pool.end()
  }
}

/** Does it again for as long as it loses against other transactions, so many times. */
async function insistent<T>(work: () => Promise<T>): Promise<T> {
  for (let left = tries - 1; ; left--) {
    try {
      return await work()
    } catch (error) {
      if (left === 0 || !worthAnotherTry(error)) throw translateError(error)
    }
  }
}

async function translated<T>(work: () => Promise<T>): Promise<T> {
  try {
    return await work()
  } catch (error) {
    throw translateError(error)
  }
}
