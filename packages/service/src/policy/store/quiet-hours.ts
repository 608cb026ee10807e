import type { QuietWindow } from '@zbell/core/policy'
import { sql } from 'drizzle-orm'
import type { Reader, Tx, Where } from '../../database/index.ts'

type RawRow = { userNo: number; quietHours: string | readonly QuietWindow[] }

const windowsOf = ({ quietHours }: RawRow): readonly QuietWindow[] =>
  typeof quietHours === 'string' ? (JSON.parse(quietHours) as readonly QuietWindow[]) : quietHours

/** The quiet hours that these people set for themselves, those who did. */
export async function quietHoursOf(
  reader: Reader,
  userNos: readonly number[],
): Promise<ReadonlyMap<number, readonly QuietWindow[]>> {
  if (userNos.length === 0) return new Map()
  const rows = await reader.rows<RawRow>(
    sql`select user_no as userNo, quiet_hours as quietHours from user_quiet_hours where user_no in ${userNos}`,
  )
  return new Map(rows.map((row) => [row.userNo, windowsOf(row)]))
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
