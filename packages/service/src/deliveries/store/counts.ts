import {
  type DeliveryState,
  deliveryStateOfCode,
  deliveryStates,
  type Platform,
  platforms,
  type Reason,
  reasonOfCode,
  reasons,
} from '@zbell/core'
import { sql } from 'drizzle-orm'
import { notificationCounts, type Reader, select, type Tx, tuples } from '../../database/index.ts'

export type CountedIn = {
  readonly platform: Platform
  readonly state: DeliveryState
  readonly reason: Reason | null
}

/** Changes of a notification's totals, gathered and then stored with the rows that they count, in one transaction. */
export class CountChanges {
  readonly #changes = new Map<number, [platform: number, state: number, reason: number, by: number]>()

  add({ platform, state, reason }: CountedIn, by: 1 | -1): void {
    this.addCodes(platforms.indexOf(platform), deliveryStates[state], reason === null ? 0 : reasons[reason].code, by)
  }

  addCodes(platform: number, state: number, reason: number, by: number): void {
    const name = (platform * 64 + state) * 256 + reason
    const known = this.#changes.get(name)
    if (known) known[3] += by
    else this.#changes.set(name, [platform, state, reason, by])
  }

  async store(tx: Tx, notificationNo: number): Promise<void> {
    const rows = [...this.#changes.values()].filter(([, , , by]) => by !== 0).map((row) => [notificationNo, ...row])
    if (rows.length === 0) return
    await tx.change(
      sql`insert into notification_counts (notification_no, platform, state, reason, count) values ${tuples(rows)}
       on duplicate key update count = count + value(count)`,
    )
  }
}

export type Counted = {
  readonly states: ReadonlyMap<DeliveryState, number>
  readonly reasons: ReadonlyMap<Reason, number>
  readonly platforms: ReadonlyMap<Platform, ReadonlyMap<DeliveryState, number>>
}

type CountRow = { readonly platform: number; readonly state: number; readonly reason: number; readonly count: number }

/** How many deliveries are in each state, and why. What is not in a row yet is queued: the caller has `expanded`. */
export async function countDeliveries(reader: Reader, notificationNo: number): Promise<Counted> {
  return (await countDeliveriesOf(reader, [notificationNo])).get(notificationNo)!
}

/** The same of several notifications at once. @returns something for each of them */
export async function countDeliveriesOf(
  reader: Reader,
  notificationNos: readonly number[],
): Promise<ReadonlyMap<number, Counted>> {
  const all = new Map<number, CountRow[]>(notificationNos.map((no) => [no, []]))
  if (all.size > 0)
    for (const row of await select(
      reader,
      {
        no: notificationCounts.notificationNo,
        platform: notificationCounts.platform,
        state: notificationCounts.state,
        reason: notificationCounts.reason,
        count: notificationCounts.count,
      },
      sql`from ${notificationCounts} where ${notificationCounts.notificationNo} in ${[...all.keys()]}
          and ${notificationCounts.count} > 0`,
    ))
      all.get(row.no)?.push(row)
  return new Map([...all].map(([no, rows]) => [no, countedOf(rows)]))
}

function countedOf(rows: readonly CountRow[]): Counted {
  const states = new Map<DeliveryState, number>()
  const why = new Map<Reason, number>()
  const byPlatform = new Map<Platform, Map<DeliveryState, number>>()
  for (const row of rows) {
    const state = deliveryStateOfCode(row.state)
    const platform = platforms[row.platform]!
    states.set(state, (states.get(state) ?? 0) + row.count)
    const own = byPlatform.get(platform) ?? new Map<DeliveryState, number>()
    byPlatform.set(platform, own.set(state, (own.get(state) ?? 0) + row.count))
    if (row.reason !== 0) {
      const reason = reasonOfCode(row.reason)
      why.set(reason, (why.get(reason) ?? 0) + row.count)
    }
  }
  return { states, reasons: why, platforms: byPlatform }
}
