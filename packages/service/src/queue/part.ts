import { type Environment, urgencies } from '@zbell/core'
import { and, eq, isNull, sql } from 'drizzle-orm'
import { build, now, type Reader, type Tx, work as workTable } from '../database/index.ts'
import type { ClaimRef, QueuedWork } from './work.ts'

/** A piece of work that nobody holds. */
export type UnheldWork = QueuedWork & ClaimRef

/**
 * What waits in an app for a cause to go away, in no order, in the words of the index `by_share`.
 * @param maxLooked so many pieces of the app's work are looked through, whatever they wait for
 */
export const waitingFor = (
  reader: Reader,
  of: { readonly appNo: number; readonly environment: Environment; readonly cause: number },
  maxLooked: number,
): Promise<UnheldWork[]> =>
  reader.rows(
    sql`select w.no, w.fence, w.kind, w.app_no as appNo, w.environment, w.subject_no as subjectNo, w.urgency, w.failures,
          w.cause, w.size, w.body
        from (select no from work force index (by_share)
              where suspended = false and parked = false
                and urgency in ${urgencies.map((_, code) => code)} and app_no = ${of.appNo}
                and due_at > utc_timestamp(3) limit ${maxLooked}) looked
        join work w on w.no = looked.no
        where w.environment = ${of.environment} and w.cause = ${of.cause} and w.leased_until is null`,
  )

/** Makes a piece due at once, if still nobody holds it. @returns whether it was so */
export const makeOneDue = async (tx: Pick<Tx, 'change'>, { no, fence }: ClaimRef): Promise<boolean> =>
  (
    await tx.change(
      build
        .update(workTable)
        .set({ dueAt: now })
        .where(and(eq(workTable.no, no), eq(workTable.fence, fence), isNull(workTable.leasedUntil))),
    )
  ).affectedRows === 1

/** Leaves a piece with a part of what it had, if still nobody holds it: whoever asks takes the rest. @returns whether it was so */
export const leavePart = async (
  tx: Pick<Tx, 'change'>,
  { no, fence }: ClaimRef,
  left: { readonly body: Buffer; readonly size: number },
): Promise<boolean> =>
  (
    await tx.change(
      build
        .update(workTable)
        .set({ body: left.body, size: left.size, fence: sql`${workTable.fence} + 1` })
        .where(and(eq(workTable.no, no), eq(workTable.fence, fence), isNull(workTable.leasedUntil))),
    )
  ).affectedRows === 1
