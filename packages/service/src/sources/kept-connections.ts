import type { TableSource } from '@zbell/core/triggers'
import { connect, type Reach } from './connect.ts'
import { SourceFault } from './fault.ts'
import type { SqlConnection } from './sql-connection.ts'

/** A connection that nobody uses for so long is given up. */
const idleMs = 60_000

type PooledConnection = { readonly name: string; readonly connection: SqlConnection; usedMs: number }

/** Connections that are kept between polls, by source; each belongs to one address and one account. */
export class KeptConnections {
  readonly #kept = new Map<number, PooledConnection>()

  /** One that has begun to read: the one that was kept, unless it was hung up on meanwhile. @throws {SourceFault} */
  async ready(no: number, url: string, { ca }: TableSource, reach: Reach): Promise<SqlConnection> {
    const kept = this.#kept.get(no)
    const name = `${url} ${ca ?? ''}`
    if (kept?.name === name) {
      kept.usedMs = Date.now()
      if (await hasBegun(kept.connection)) return kept.connection
    }
    this.drop(no)
    const connection = await connect(url, { ca, ...reach })
    this.#kept.set(no, { name, connection, usedMs: Date.now() })
    await connection.begin()
    return connection
  }

  #hangUp(no: number): void {
    this.#kept.get(no)?.connection.hangUp()
    this.#kept.delete(no)
  }

  /** Breaks one off. */
  drop(no: number): void {
    this.#kept.get(no)?.connection.destroy()
    this.#kept.delete(no)
  }

  /** Hangs up where nobody has polled for a while: another process may, or nobody any more. */
  closeIdle(isInUse: (no: number) => boolean): void {
    const now = Date.now()
    for (const [no, { usedMs }] of this.#kept) if (now - usedMs > idleMs && !isInUse(no)) this.#hangUp(no)
  }
}

async function hasBegun(connection: SqlConnection): Promise<boolean> {
  try {
    await connection.begin()
    return true
  } catch (error) {
    if (error instanceof SourceFault) return false
    throw error
  }
}
