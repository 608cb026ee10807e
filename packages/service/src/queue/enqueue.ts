import { type SQL, sql } from 'drizzle-orm'
import { afterNow, commas, type Tx } from '../database/index.ts'
import type { QueuedWork } from './work.ts'

export type NewWork = Pick<QueuedWork, 'kind' | 'appNo' | 'environment' | 'urgency'> &
  Partial<Pick<QueuedWork, 'failures' | 'cause' | 'size' | 'body'>> & {
    /** Its turn comes at an instant, or so long after the database's present; at once when left out. */
    readonly due?: Date | { readonly afterMs: number }
    readonly suspended?: boolean
    /** Whoever makes it holds it for so long, and its fence is 1: it need not be claimed. */
    readonly heldMs?: number
  }

/**
 * What puts work into the queue.
 * @param subject the number of what it is about, or the variable of the session in which it stands
 * @param works at least one
 */
export function enqueueStatement(subject: number | SQL, works: readonly NewWork[]): SQL {
  const rows = works.map((work) => {
    const { due, heldMs = 0 } = work
    const dueAt = due instanceof Date ? sql`${due}` : due ? afterNow(due.afterMs) : sql`utc_timestamp(3)`
    const leasedUntil = heldMs > 0 ? afterNow(heldMs) : null
    return sql`(${work.kind}, ${work.appNo}, ${work.environment}, ${subject}, ${work.urgency}, ${dueAt},
      ${work.suspended ?? false}, ${leasedUntil}, ${heldMs > 0 ? 1 : 0}, ${work.failures ?? 0}, ${work.cause ?? 0},
      ${work.size ?? 0}, ${work.body ?? null})`
  })
  return sql`insert into work (kind, app_no, environment, subject_no, urgency, due_at, suspended, leased_until, fence, failures,
    cause, size, body) values ${commas(rows)}`
}

/** Puts work into the queue, in the transaction that makes it necessary. */
export async function enqueue(tx: Pick<Tx, 'change'>, subjectNo: number, works: readonly NewWork[]): Promise<void> {
  if (works.length > 0) await tx.change(enqueueStatement(subjectNo, works))
}
