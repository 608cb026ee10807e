import type { QuietWindow } from '@zbell/core/policy'
import { sql } from 'drizzle-orm'
import { type Reader, select, type Tx, userQuietHours, type Where } from '../../database/index.ts'

/** The quiet hours that these people set for themselves, those who did. */
export async function quietHoursOf(
  reader: Reader,
  userNos: readonly number[],
): Promise<ReadonlyMap<number, readonly QuietWindow[]>> {
  if (userNos.length === 0) return new Map()
  const rows = await select(
    reader,
    { userNo: userQuietHours.userNo, quietHours: userQuietHours.quietHours },
    sql`from ${userQuietHours} where ${userQuietHours.userNo} in ${userNos}`,
  )
  return new Map(rows.map(({ userNo, quietHours }) => [userNo, quietHours]))
}

/** None takes them away. */
export async function storeQuietHours(
  tx: Pick<Tx, 'change'>,
  { appNo, environment }: Where,
  userNo: number,
  windows: readonly QuietWindow[],
): Promise<void> {
  await tx.change(
    windows.length === 0
      ? sql`delete from user_quiet_hours where user_no = ${userNo}`
      : sql`insert into user_quiet_hours (user_no, app_no, environment, quiet_hours, changed_at)
            values (${userNo}, ${appNo}, ${environment}, ${JSON.stringify(windows)}, utc_timestamp(3))
            on duplicate key update quiet_hours = value(quiet_hours), changed_at = value(changed_at)`,
  )
}
