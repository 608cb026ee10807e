import {
  type DeliveryState,
  deliveryStateOfCode,
  deliveryStates,
  durationClass,
  type Platform,
  platforms,
  type Reason,
  reasonOfCode,
} from '@zbell/core'
import { sql } from 'drizzle-orm'
import {
  build,
  commas,
  computed,
  type Database,
  dayCounts,
  type Scope,
  select,
  type Tx,
  type Where,
} from '../../database/index.ts'

/** A day's numbers stand in so many places each, so that those who count at the same time seldom meet. */
const slots = 4

/** Called with each step of each delivery, and how long it took, once it is stored. */
export type OnStep = (platform: Platform, step: DeliveryState, durationMs: number) => void

/** What came to which state today, gathered and then stored with the deliveries themselves, in one transaction. */
export class DayCounts {
  /** Platform, state and time of each, one after the other. */
  readonly #steps: number[] = []
  readonly #counts = new Map<
    number,
    [platform: number, state: number, reason: number, duration: number, count: number]
  >()

  /** @param platform its place among the platforms @param durationMs since the step before */
  add(platform: number, state: DeliveryState, reason: number, durationMs: number): void {
    const code = deliveryStates[state]
    this.#steps.push(platform, code, durationMs)
    const duration = durationClass(durationMs)
    const name = ((platform * 64 + code) * 256 + reason) * 64 + duration
    const known = this.#counts.get(name)
    if (known) known[4]++
    else this.#counts.set(name, [platform, code, reason, duration, 1])
  }

  /** After the commit. */
  tell(onStep: OnStep): void {
    for (let i = 0; i < this.#steps.length; i += 3)
      onStep(platforms[this.#steps[i]!]!, deliveryStateOfCode(this.#steps[i + 1]!), this.#steps[i + 2]!)
  }

  async store(tx: Tx, { appNo, environment, channelNo }: Where & { readonly channelNo: number }): Promise<void> {
    if (this.#counts.size === 0) return
    const slot = Math.floor(Math.random() * slots)
    // In the order of the key, as everybody does it: two that meet wait for each other, and never in a circle.
    const rows = [...this.#counts.values()].sort((a, b) => a[0] - b[0] || a[1] - b[1] || a[2] - b[2] || a[3] - b[3])
    await tx.change(
      sql`insert into day_counts (app_no, environment, day, slot, channel_no, platform, state, reason, duration, count)
       values ${sql.join(
         rows.map((row) => sql`(${appNo}, ${environment}, utc_date(), ${slot}, ${channelNo}, ${commas(row)})`),
         sql`, `,
       )}
       on duplicate key update count = count + value(count)`,
    )
  }
}

export type DayCount = {
  /** In UTC, as YYYY-MM-DD. */
  readonly day: string
  readonly platform: Platform
  readonly state: DeliveryState
  readonly reason: Reason | null
  /** As a class of durations. */
  readonly duration: number
  readonly count: number
}

/** What the last days brought to an app, this one among them. @param channelNo only what was of this channel */
export async function readDays(
  database: Pick<Database, 'rows'>,
  { app, environment }: Scope,
  days: number,
  channelNo?: number,
): Promise<DayCount[]> {
  type DayRow = { day: string; platform: number; state: number; reason: number; duration: number; count: number }
  const rows = await select(
    database,
    {
      day: computed<DayRow['day']>(sql`date_format(${dayCounts.day}, '%Y-%m-%d')`),
      platform: dayCounts.platform,
      state: dayCounts.state,
      reason: dayCounts.reason,
      duration: dayCounts.duration,
      count: computed<DayRow['count']>(sql`cast(sum(${dayCounts.count}) as unsigned)`),
    },
    sql`from ${dayCounts} where ${dayCounts.appNo} = ${app.no} and ${dayCounts.environment} = ${environment}
        and ${dayCounts.day} > utc_date() - interval ${days} day ${channelNo === undefined ? sql`` : sql`and channel_no = ${channelNo}`}
        group by ${dayCounts.day}, ${dayCounts.platform}, ${dayCounts.state}, ${dayCounts.reason},
        ${dayCounts.duration} order by ${dayCounts.day}, ${dayCounts.platform}, ${dayCounts.state},
        ${dayCounts.reason}, ${dayCounts.duration}`,
  )
  return rows.map(({ day, platform, state, reason, duration, count }) => ({
    day,
    platform: platforms[platform]!,
    state: deliveryStateOfCode(state),
    reason: reason === 0 ? null : reasonOfCode(reason),
    duration,
    count: Number(count),
  }))
}

/** Forgets days that nobody asks for any more. */
export const pruneDays = (database: Database, afterDays: number) =>
  database.change(build.delete(dayCounts).where(sql`${dayCounts.day} < utc_date() - interval ${afterDays} day`))
