import type { QuietWindow } from '@zbell/core/policy'
import { eq, sql } from 'drizzle-orm'
import { build, incoming, now, type Reader, select, type Tx, userQuietHours, type Where } from '../../database/index.ts'

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
      ? build.delete(userQuietHours).where(eq(userQuietHours.userNo, userNo))
      : build
          .insert(userQuietHours)
          .values({ userNo, appNo, environment, quietHours: windows, changedAt: now })
          .onDuplicateKeyUpdate({
            set: { quietHours: incoming(userQuietHours.quietHours), changedAt: incoming(userQuietHours.changedAt) },
          }),
  )
}
