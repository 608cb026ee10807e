import type { Tx } from '../database.ts'
import { microseconds, type QueuedWork, type Statement } from './work.ts'

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
 */
export function enqueueStatement(subject: number | `@${string}`, works: readonly NewWork[]): Statement {
  const of = typeof subject === 'number' ? '?' : subject
  const rows = works.map(({ due, heldMs = 0 }) => {
    const dueAt = due instanceof Date ? '?' : `utc_timestamp(3)${due ? ' + interval ? microsecond' : ''}`
    const leasedUntil = heldMs > 0 ? 'utc_timestamp(3) + interval ? microsecond' : 'null'
    return `(?, ?, ?, ${of}, ?, ${dueAt}, ?, ${leasedUntil}, ?, ?, ?, ?, ?)`
  })
  const values = works.flatMap((work) => {
    const { due, heldMs = 0 } = work
    return [
      work.kind,
      work.appNo,
      work.environment,
      ...(typeof subject === 'number' ? [subject] : []),
      work.urgency,
      ...(due instanceof Date ? [due] : due ? [microseconds(due.afterMs)] : []),
      work.suspended ?? false,
      ...(heldMs > 0 ? [microseconds(heldMs)] : []),
      heldMs > 0 ? 1 : 0,
      work.failures ?? 0,
      work.cause ?? 0,
      work.size ?? 0,
      work.body ?? null,
    ]
  })
  return {
    sql: `insert into work (kind, app_no, environment, subject_no, urgency, due_at, suspended, leased_until, fence, failures,
            cause, size, body) values ${rows.join(',')}`,
    values,
  }
}

/** Puts work into the queue, in the transaction that makes it necessary. */
export async function enqueue(tx: Pick<Tx, 'change'>, subjectNo: number, works: readonly NewWork[]): Promise<void> {
  if (works.length === 0) return
  const { sql, values } = enqueueStatement(subjectNo, works)
  await tx.change(sql, [...values])
}
