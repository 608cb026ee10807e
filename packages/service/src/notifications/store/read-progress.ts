import type { DeliveryState } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'
import { computed, type Database, deliveries as deliveriesTable, select } from '../../database/index.ts'

const moments = {
  accepted: sql`accepted_at`,
  received: sql`received_at`,
  shown: sql`shown_at`,
  dismissed: sql`dismissed_at`,
  opened: sql`opened_at`,
} as const satisfies Partial<Record<DeliveryState, SQL>>
type Moment = keyof typeof moments

/** A drawing has about so many steps; they are as long as that asks, from this list. */
const wantedSteps = 60
const stepsOfSeconds = [1, 2, 5, 10, 30, 60, 300, 900, 3_600, 10_800, 43_200, 86_400, 604_800]

export type ProgressSteps = {
  readonly stepSeconds: number
  readonly steps: readonly { readonly at: Date; readonly counts: Partial<Record<Moment, number>> }[]
}

/** How many deliveries came to each state in each step of time since a notification began. */
export async function readProgress(
  database: Database,
  notification: { readonly no: number; readonly createdAt: Date },
): Promise<ProgressSteps> {
  const [span] = await select(
    database,
    {
      last: computed<Date | null>(
        sql`greatest(${sql.join(
          Object.values(moments).map((column) => sql`coalesce(max(${column}), '1970-01-01')`),
          sql`, `,
        )})`,
      ),
    },
    sql`from ${deliveriesTable} where ${deliveriesTable.notificationNo} = ${notification.no}`,
  )
  const fromMs = Math.floor(notification.createdAt.getTime() / 1_000) * 1_000
  const seconds = Math.max(1, (new Date(span?.last ?? fromMs).getTime() - fromMs) / 1_000)
  const stepSeconds = stepsOfSeconds.find((step) => seconds / step <= wantedSteps) ?? stepsOfSeconds.at(-1)!
  const found = new Map<number, Partial<Record<Moment, number>>>()
  for (const [state, column] of Object.entries(moments) as [Moment, SQL][]) {
    const rows = await select(
      database,
      {
        step: computed<number>(sql`floor(timestampdiff(second, ${new Date(fromMs)}, ${column}) / ${stepSeconds})`),
        count: computed<number>(sql`count(*)`),
      },
      sql`from ${deliveriesTable} where ${deliveriesTable.notificationNo} = ${notification.no}
          and ${column} is not null group by step`,
    )
    for (const { step, count } of rows) found.set(Number(step), { ...found.get(Number(step)), [state]: count })
  }
  const steps = [...found]
    .sort(([a], [b]) => a - b)
    .map(([step, counts]) => ({ at: new Date(fromMs + step * stepSeconds * 1_000), counts }))
  return { stepSeconds, steps }
}
