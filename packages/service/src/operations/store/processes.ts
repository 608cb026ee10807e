import type { GatewayHealth } from '@zbell/contract'
import { eq, sql } from 'drizzle-orm'
import type { ReachedLimit } from '../../api/index.ts'
import { build, type Database, incoming, now, processes, select } from '../../database/index.ts'

/** What a process says of itself. */
export type ProcessReport = {
  readonly host: string
  readonly pid: number
  readonly does: 'everything' | 'http' | 'worker' | 'clock'
  readonly memoryMb: number
  readonly devicesPerSecond: number | null
  /** Missing in what an earlier version said. */
  readonly reachedLimits?: readonly ReachedLimit[]
  readonly gateways: readonly (GatewayHealth & { readonly appNo: number; readonly app?: string })[]
}

export type ProcessRow = ProcessReport & { readonly id: string; readonly startedAt: Date; readonly seenAt: Date }

/** Whoever has been silent for so long is gone. */
const silentSeconds = 20

export async function reportProcess(database: Database, id: string, report: ProcessReport): Promise<void> {
  await database.change(
    build
      .insert(processes)
      .values({ id, startedAt: now, seenAt: now, report })
      .onDuplicateKeyUpdate({ set: { seenAt: now, report: incoming(processes.report) } }),
  )
}

export const removeProcess = (database: Database, id: string) =>
  database.change(build.delete(processes).where(eq(processes.id, id)))

/** Those that are there, the oldest first. */
export async function listProcesses(database: Database): Promise<ProcessRow[]> {
  const rows = await select(
    database,
    { id: processes.id, startedAt: processes.startedAt, seenAt: processes.seenAt, report: processes.report },
    sql`from ${processes} where ${processes.seenAt} > utc_timestamp(3) - interval ${silentSeconds} second
        order by ${processes.startedAt}, ${processes.id}`,
  )
  return rows.map(({ report, ...row }) => ({
    ...(report as ProcessReport),
    ...row,
  }))
}

/** Forgets those that died without a word. */
export const pruneSilent = (database: Database) =>
  database.change(build.delete(processes).where(sql`${processes.seenAt} < utc_timestamp(3) - interval 1 hour`))
