import { and, eq, sql } from 'drizzle-orm'
import { afterNow, build, type Tx, work as workTable } from '../database/index.ts'
import type { ClaimRef } from './work.ts'

type Changes = Pick<Tx, 'change'>

/**
 * Shows a sign of life, and keeps what is left of the work.
 * @returns false when the lease was lost to another claim: nothing was written
 */
export async function extend(
  tx: Changes,
  { no, fence }: ClaimRef,
  leaseMs: number,
  left?: { readonly body: Buffer; readonly size: number },
): Promise<boolean> {
  const { affectedRows } = await tx.change(
    sql`update work set leased_until = ${afterNow(leaseMs)} ${left ? sql`, body = ${left.body}, size = ${left.size}` : sql``}
        where no = ${no} and fence = ${fence}`,
  )
  return affectedRows === 1
}

export type Release = { readonly afterMs: number } | 'suspended'

/** Gives work back, due after a while, or suspended with the due time that it had. @returns false when the lease was lost */
export async function release(tx: Changes, { no, fence }: ClaimRef, how: Release): Promise<boolean> {
  const change = how === 'suspended' ? sql`suspended = true` : sql`due_at = ${afterNow(how.afterMs)}`
  const { affectedRows } = await tx.change(
    sql`update work set leased_until = null, ${change} where no = ${no} and fence = ${fence}`,
  )
  return affectedRows === 1
}

/** Takes work that is done out of the queue. @returns false when the lease was lost */
export async function finish(tx: Changes, { no, fence }: ClaimRef): Promise<boolean> {
  return (
    (await tx.change(build.delete(workTable).where(and(eq(workTable.no, no), eq(workTable.fence, fence)))))
      .affectedRows === 1
  )
}
