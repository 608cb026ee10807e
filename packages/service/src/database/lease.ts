import { randomBytes } from 'node:crypto'
import { type SQL, sql } from 'drizzle-orm'
import type { Database } from './database.ts'
import { afterNow } from './database-time.ts'

/** Whether a lease that runs until this is nobody’s: it was given back, or has run out. */
export const isFree = (leasedUntil: SQL): SQL => sql`coalesce(${leasedUntil} <= utc_timestamp(3), true)`

/**
 * A lease that this process has taken, kept alive for as long as something is done under it. How it is taken and extended is its
 * table’s to say; when it counts as lost is the same for all.
 */
export class Lease {
  readonly #lost = new AbortController()
  readonly #timer: NodeJS.Timeout
  #heldUntilMs: number

  /**
   * @param extend says false when another has the lease by now
   * @param takenMs when it was asked for, so that it ends here no later than in the database (`performance.now()`)
   */
  constructor(
    extend: () => Promise<boolean>,
    {
      leaseMs,
      takenMs = performance.now(),
      onError,
    }: { readonly leaseMs: number; readonly takenMs?: number; onError(error: unknown): void },
  ) {
    this.#heldUntilMs = takenMs + leaseMs
    this.#timer = setInterval(() => {
      const askedMs = performance.now()
      extend().then((isHeld) => {
        if (isHeld) this.#heldUntilMs = askedMs + leaseMs
        else this.#lose()
      }, onError)
    }, leaseMs / 3)
  }

  /** Whether it is still this process’s, by this process’s clock. */
  get isHeld(): boolean {
    return !this.#lost.signal.aborted && performance.now() < this.#heldUntilMs
  }

  /** Aborted when another has it. */
  get lost(): AbortSignal {
    return this.#lost.signal
  }

  /** Extends it no more. */
  end(): void {
    clearInterval(this.#timer)
  }

  #lose(): void {
    this.end()
    this.#lost.abort()
  }
}

const leaseMs = 60_000

/** Takes the lease of this name. @returns false while another has it */
async function take(database: Database, name: string, owner: Buffer): Promise<boolean> {
  await database.change(
    sql`insert into leases (name, owner, until_at) values (${name}, ${owner}, ${afterNow(leaseMs)})
        on duplicate key update owner = if(until_at <= utc_timestamp(3), value(owner), owner),
          until_at = if(owner = value(owner), value(until_at), until_at)`,
  )
  return extend(database, name, owner)
}

async function extend(database: Database, name: string, owner: Buffer): Promise<boolean> {
  const { affectedRows } = await database.change(
    sql`update leases set until_at = ${afterNow(leaseMs)} where name = ${name} and owner = ${owner} and until_at > utc_timestamp(3)`,
  )
  return affectedRows === 1
}

/**
 * Does something that one process does at a time.
 * @param act asks between its steps whether it may go on: a process that was away for longer than the lease may not
 * @returns undefined when another one is doing it
 */
export async function underLease<T>(
  database: Database,
  name: string,
  act: (mayGoOn: () => Promise<boolean>) => Promise<T>,
): Promise<T | undefined> {
  const owner = randomBytes(16)
  if (!(await take(database, name, owner))) return undefined
  try {
    return await act(() => extend(database, name, owner))
  } finally {
    await database.change(sql`delete from leases where name = ${name} and owner = ${owner}`)
  }
}
