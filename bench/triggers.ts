import { setTimeout as wait } from 'node:timers/promises'
import { type Connection, createConnection, type RowDataPacket } from 'mysql2/promise'
import { fillDevices } from '../e2e/harness/fleet.ts'
import { type Figure, figure } from './figure.ts'
import { app, House } from './house.ts'

/** Rows of the table, and how many of them change at once. */
const rows = 200_000
const changed = 2_000
const turns = 3
/** Rounds over a table that does not change. */
const rounds = 10
/** Rows of the table by which lateness is measured. */
const few = 20_000

/**
 * How many changed rows a second become notifications in the queue, from their commit on, beside the bare driver that reads
 * the same table; what a round over 200,000 rows costs; and how late the gateway hears of a change when ten come a second, and a
 * thousand.
 */
export async function triggers(): Promise<Figure[]> {
  const house = await House.open()
  const connection = await createConnection({ uri: house.databaseUrl, timezone: 'Z' })
  try {
    await connection.query(
      `create table sailings (id int primary key, delay int not null, status varchar(20) not null, berth int not null,
         changed datetime(3) not null default now(3) on update now(3))`,
    )
    await connection.query(
      `insert into sailings (id, delay, status, berth) select seq, 0, 'on time', 1 from seq_1_to_${rows}`,
    )
    await house.backend.call('changeUserAttributes', { params: { app, user: 'ada' }, body: { pier: 'saltmere' } })
    const [[user]] = await connection.query<RowDataPacket[]>(`select no from users where name = 'ada'`)
    await fillDevices(house.databaseUrl, house.mintTokens(1), { appNo: 1, userNo: user?.no as number })
    await connection.query('create table crossings like sailings')
    await connection.query(`insert into crossings select * from sailings where id <= ${few}`)
    await listen(house, 'sailings', 1)
    const round = await aRound(house, connection)
    const fired: number[] = []
    const bare: number[] = []
    for (let turn = 0; turn < turns; turn++) {
      bare.push(await bareDriver(connection))
      fired.push(await untilFired(connection, turn))
    }
    // From here on nobody looks at the large table.
    await listen(house, 'sailings', 86_400)
    await listen(house, 'crossings', 1)
    await quiet(connection)
    const slow = await lateness(connection, 10, 20)
    await quiet(connection)
    const quick = await lateness(connection, 1_000, 10)
    return [
      figure('triggers-round-cpu', round.service, 's of the service’s CPU'),
      figure('triggers-round-reader-cpu', round.reader, 's of its reader’s CPU'),
      figure('triggers-rows', median(fired), 'rows/s', median(bare)),
      figure('triggers-late-10', slow.median, 'ms'),
      figure('triggers-late-10-p99', slow.p99, 'ms'),
      figure('triggers-late-1000', quick.median, 'ms'),
      figure('triggers-late-1000-p99', quick.p99, 'ms'),
    ]
  } finally {
    await connection.end()
    await house.close()
  }
}

async function listen(house: House, table: string, everySeconds: number): Promise<void> {
  await house.backend.call('saveSource', {
    params: { app, source: table },
    body: {
      kind: 'table',
      url: house.databaseUrl,
      table,
      by: 'comparison',
      key: ['id'],
      watch: ['delay', 'status', 'berth'],
      everySeconds,
    },
  })
  await house.backend.call('saveTrigger', {
    params: { app, trigger: table },
    body: {
      enabled: true,
      source: table,
      when: 'row.delay > before.delay',
      to: { any: ["'user:ada'"] },
      content: { title: 'Sailing {id} is {delay} minutes late' },
      values: { id: 'row.id', delay: 'row.delay' },
      key: "string(row.id) + ' ' + string(row.delay)",
    },
  })
  await house.backend.call('changeSettings', { params: { app }, body: { runawayFloor: 1_000_000 } })
}

const median = (all: readonly number[]): number => [...all].sort((a, b) => a - b)[all.length >> 1]!

/** Processor time that the service and its reader take for a round over a table in which nothing changes. */
async function aRound(
  house: House,
  connection: Connection,
): Promise<{ readonly service: number; readonly reader: number }> {
  const looked = async () => {
    const [[row]] = await connection.query<RowDataPacket[]>('select polled_at as at from sources')
    return String(row?.at)
  }
  await wait(3_000)
  const before = { service: house.cpuSeconds, reader: house.childCpuSeconds }
  let last = await looked()
  for (let seen = 0; seen < rounds; await wait(50)) {
    const now = await looked()
    if (now !== last) seen++
    last = now
  }
  return {
    service: (house.cpuSeconds - before.service) / rounds,
    reader: (house.childCpuSeconds - before.reader) / rounds,
  }
}

/** A driver that reads the table, and finds by itself what has changed. @returns changed rows a second */
async function bareDriver(connection: Connection): Promise<number> {
  const read = async () => {
    const [all] = await connection.query<RowDataPacket[]>('select id, delay, status, berth from sailings')
    return new Map(all.map(({ id, delay, status, berth }) => [id as number, `${delay} ${status} ${berth}`]))
  }
  const was = await read()
  const began = performance.now()
  let same = 0
  for (const [id, text] of await read()) if (was.get(id) === text) same++
  if (same !== rows) throw new Error('the table changed while it was read')
  return changed / ((performance.now() - began) / 1_000)
}

async function rung(connection: Connection): Promise<number> {
  const [[row]] = await connection.query<RowDataPacket[]>(`select count(*) as n from firings where state = 'rung'`)
  return Number(row?.n)
}

async function untilFired(connection: Connection, turn: number): Promise<number> {
  const before = await rung(connection)
  await connection.query(
    `update sailings set delay = delay + 1 where id > ${turn * changed} and id <= ${(turn + 1) * changed}`,
  )
  const began = performance.now()
  while ((await rung(connection)) < before + changed) await wait(50)
  return changed / ((performance.now() - began) / 1_000)
}

/** Until everything that was rung has been sent. */
async function quiet(connection: Connection): Promise<void> {
  for (;;) {
    const [[row]] = await connection.query<RowDataPacket[]>('select count(*) as n from work')
    if (Number(row?.n) === 0) return
    await wait(500)
  }
}

/** From when a row was changed to when the gateway had accepted its notification. */
async function lateness(
  connection: Connection,
  aSecond: number,
  seconds: number,
): Promise<{ readonly median: number; readonly p99: number }> {
  const first = few - aSecond * seconds
  const batchSize = Math.max(1, aSecond / 10)
  const began = performance.now()
  for (let at = 0; at < aSecond * seconds; at += batchSize) {
    const [from, to] = [first + at, first + at + batchSize]
    await connection.query(`update crossings set delay = delay + 1 where id > ${from} and id <= ${to}`)
    const nextMs = ((at + batchSize) / aSecond) * 1_000 - (performance.now() - began)
    if (nextMs > 0) await wait(nextMs)
  }
  for (;;) {
    const [all] = await connection.query<RowDataPacket[]>(
      `select timestampdiff(microsecond, s.changed, d.accepted_at) div 1000 as ms
       from triggers t
       join firings f on f.trigger_no = t.no and f.state = 'rung'
       join crossings s on s.id = cast(substring_index(f.key_text, ' ', 1) as int)
         and s.delay = cast(substring_index(f.key_text, ' ', -1) as int)
       join notifications n on n.id = f.notification_id
       join deliveries d on d.notification_no = n.no
       where t.name = 'crossings' and s.id > ${first} and d.accepted_at is not null order by ms`,
    )
    if (all.length >= aSecond * seconds) {
      const at = (share: number) => Number(all[Math.floor(all.length * share)]?.ms)
      return { median: at(0.5), p99: at(0.99) }
    }
    await wait(1_000)
  }
}
