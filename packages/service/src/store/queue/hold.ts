import type { Tx } from '../database.ts'
import { type Held, microseconds } from './work.ts'

type Changes = Pick<Tx, 'change'>

/**
 * Shows a sign of life, and keeps what is left of the work.
 * @returns false when the lease was lost to another claim: nothing was written
 */
export async function extend(
  tx: Changes,
  { no, fence }: Held,
  leaseMs: number,
  left?: { readonly body: Buffer; readonly size: number },
): Promise<boolean> {
  const { affectedRows } = await tx.change(
    `update work set leased_until = utc_timestamp(3) + interval ? microsecond ${left ? ', body = ?, size = ?' : ''}
     where no = ? and fence = ?`,
    [microseconds(leaseMs), ...(left ? [left.body, left.size] : []), no, fence],
  )
  return affectedRows === 1
}

export type Release = { readonly afterMs: number } | 'suspended'

/** Gives work back, due after a while, or suspended with the due time that it had. @returns false when the lease was lost */
export async function release(tx: Changes, { no, fence }: Held, how: Release): Promise<boolean> {
  const { affectedRows } = await (how === 'suspended'
    ? tx.change('update work set leased_until = null, suspended = true where no = ? and fence = ?', [no, fence])
    : tx.change(
        'update work set leased_until = null, due_at = utc_timestamp(3) + interval ? microsecond where no = ? and fence = ?',
        [microseconds(how.afterMs), no, fence],
      ))
  return affectedRows === 1
}

/** Takes work that is done out of the queue. @returns false when the lease was lost */
export async function finish(tx: Changes, { no, fence }: Held): Promise<boolean> {
  return (await tx.change('delete from work where no = ? and fence = ?', [no, fence])).affectedRows === 1
}
