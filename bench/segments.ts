import { setTimeout as wait } from 'node:timers/promises'
import { type Connection, createConnection } from 'mysql2/promise'
import { fillCrowd } from '../e2e/harness/crowd.ts'
import { type Figure, figure } from './figure.ts'
import { app, House } from './house.ts'

const people = Number(process.env.SEGMENTS_PEOPLE ?? 1_000_000)
const occurrences = people * 5
const turns = 7
/** As much as the tables take: a database that reads from its disk is not what is measured. */
const memoryMb = 6_144

const rule = `user.pass == "season" && user.pier == "saltmere" && follows("route-4")
  && count("example.searched", duration("168h")) >= 1 && count("example.booked", duration("720h")) == 0`

/** The same by somebody who knows the tables, which clause has the fewest, and in which order the others are asked best. */
const byHand = `user_attributes pier force index (by_text)
  straight_join user_attributes pass on pass.user_no = pier.user_no and pass.attribute_no = @pass and pass.text = 'season'
  straight_join topic_users t on t.topic_no = @topic and t.user_no = pier.user_no
  straight_join devices v force index (by_user) on v.user_no = pier.user_no
  where pier.attribute_no = @pier and pier.text = 'saltmere' and v.retired_at is null
    and (select count(*) from occurrences o where o.user_no = v.user_no and o.type = 'example.searched'
         and o.at >= utc_timestamp(3) - interval 168 hour) >= 1
    and not exists (select 1 from occurrences o where o.user_no = v.user_no and o.type = 'example.booked'
         and o.at >= utc_timestamp(3) - interval 720 hour)`

/** How long a rule of four clauses takes to count and to ring, beside the best statement for it, by turns on the same data. */
export async function segments(): Promise<Figure[]> {
  const house = await House.open(undefined, memoryMb)
  try {
    await fillCrowd(house.databaseUrl, { people, occurrences })
    const connection = await createConnection({ uri: house.databaseUrl, charset: 'utf8mb4' })
    await connection.query(`set @pass = (select no from attributes where name = 'pass'),
      @pier = (select no from attributes where name = 'pier'), @topic = (select no from topics where name = 'route-4')`)
    const counted = await byTurns(
      async () => {
        const { devices } = await house.backend.call('countRule', { params: { app }, body: { rule, exact: true } })
        return devices
      },
      () => rowsOf(connection, `select count(*) as n, count(distinct v.user_no) as people from ${byHand}`),
    )
    const expanded = await byTurns(
      () => ring(house, rule),
      async () => {
        // What every notification costs, whomever it means, is no matter of the statement.
        await ring(house, 'user.pass == "lifelong"')
        return rowsOf(connection, `select count(*) as n from (select v.no from ${byHand} order by v.no) found`)
      },
    )
    await connection.end()
    return [
      figure('segments-count', counted.own, 'ms', counted.bare),
      figure('segments-ring', expanded.own, 'ms', expanded.bare),
      figure('segments-memory', house.peakMemoryMb, 'MB'),
    ]
  } finally {
    await house.close()
  }
}

/** Sends to whoever the rule has, and waits until all of them are known. */
async function ring(house: House, rule: string): Promise<number> {
  const params = { app }
  const { id } = await house.backend.call('sendNotification', {
    params,
    // Spread over an hour, so that next to nothing is sent meanwhile.
    body: { to: { any: ['everyone'], rule }, content: { title: 'Timetable' }, ttlSeconds: 7_200, spreadSeconds: 3_600 },
  })
  for (;;) {
    const { state, totals } = await house.backend.call('readNotification', { params: { app, id } })
    if (state !== 'expanding') {
      if (state !== 'finished')
        await house.backend.call('holdNotification', { params: { app, id }, body: { hold: 'cancelled' } })
      return totals.expanded
    }
    await wait(10)
  }
}

async function rowsOf(connection: Connection, statement: string): Promise<number> {
  const [rows] = await connection.query(statement)
  return (rows as { n: number }[])[0]!.n
}

/** Median times of two ways to the same number. @throws {Error} when they find different ones */
async function byTurns(
  own: () => Promise<number>,
  bare: () => Promise<number>,
): Promise<{ readonly own: number; readonly bare: number }> {
  const times = { own: [] as number[], bare: [] as number[] }
  for (let turn = 0; turn < turns; turn++) {
    const found = [await timed(own, times.own), await timed(bare, times.bare)]
    // Whatever lies at the edge of its window may leave it between the two.
    if (Math.abs(found[0]! - found[1]!) > 2) throw new Error(`found ${found[0]}, by hand ${found[1]}`)
  }
  return { own: median(times.own), bare: median(times.bare) }
}

async function timed(work: () => Promise<number>, times: number[]): Promise<number> {
  const startMs = performance.now()
  const found = await work()
  times.push(performance.now() - startMs)
  return found
}

const median = (numbers: number[]): number => numbers.sort((a, b) => a - b)[numbers.length >> 1]!
