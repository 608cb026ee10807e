import { setTimeout as wait } from 'node:timers/promises'
import { createConnection } from 'mysql2/promise'
import { type Figure, figure } from './figure.ts'
import { app, House } from './house.ts'

const count = 500_000
const page = 2_000

/** How fast a target of half a million becomes blocks of work, beside the bare driver that only reads their numbers. */
export async function expansion(): Promise<Figure[]> {
  const house = await House.open()
  try {
    await house.fillDevices(house.mintTokens(count))
    const params = { app }
    const before = await bareScan(house.databaseUrl)
    // Spread over an hour, so that next to nothing is sent meanwhile.
    const { id } = await house.backend.call('sendNotification', {
      params,
      body: { to: { any: ['everyone'] }, content: { title: 'Timetable' }, ttlSeconds: 7_200, spreadSeconds: 3_600 },
    })
    const startMs = performance.now()
    for (;;) {
      const { totals } = await house.backend.call('readNotification', { params: { app, id } })
      if (totals.expanded === count) break
      await wait(50)
    }
    const perSecond = count / ((performance.now() - startMs) / 1_000)
    await house.backend.call('holdNotification', { params: { app, id }, body: { hold: 'cancelled' } })
    return [figure('expansion-500k', perSecond, 'devices/s', (before + (await bareScan(house.databaseUrl))) / 2)]
  } finally {
    await house.close()
  }
}

/** @returns devices per second */
async function bareScan(databaseUrl: string): Promise<number> {
  const connection = await createConnection(databaseUrl)
  const startMs = performance.now()
  let seen = 0
  for (let after = 0; ; ) {
    const [rows] = await connection.query(
      "select no from devices force index (primary) where app_no = 1 and environment = 'development' and no > ? order by no limit ?",
      [after, page],
    )
    const all = rows as { no: number }[]
    seen += all.length
    if (all.length < page) break
    after = all.at(-1)!.no
  }
  const perSecond = seen / ((performance.now() - startMs) / 1_000)
  await connection.end()
  return perSecond
}
