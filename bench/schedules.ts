import { setTimeout as wait } from 'node:timers/promises'
import { type Connection, createConnection } from 'mysql2/promise'
import { type Figure, figure } from './figure.ts'
import { app, House } from './house.ts'

const count = 10_000
/** They become due within so long. */
const withinSeconds = 60
const broadcastDevices = 200_000

/**
 * How late ten thousand schedules are rung that become due within a minute: by an idle service, and while it sends a broadcast.
 * Nothing is compared: a bare timer would be late by nothing, and store nothing.
 */
export async function schedules(): Promise<Figure[]> {
  const house = await House.open()
  try {
    const connection = await createConnection({ uri: house.databaseUrl, timezone: 'Z' })
    const idle = await late(house, connection, 'idle')
    await house.fillDevices(house.mintTokens(broadcastDevices))
    const { id } = await house.backend.call('sendNotification', {
      params: { app },
      body: { to: { any: ['everyone'] }, content: { title: 'Timetable' }, ttlSeconds: 7_200 },
    })
    const busy = await late(house, connection, 'busy')
    const { totals } = await house.backend.call('readNotification', { params: { app, id } })
    await connection.end()
    return [
      figure('schedules-idle-median', idle.median, 'ms'),
      figure('schedules-idle-p99', idle.p99, 'ms'),
      figure('schedules-busy-median', busy.median, 'ms'),
      figure('schedules-busy-p99', busy.p99, 'ms'),
      figure('schedules-busy-sent', totals.accepted, 'devices'),
    ]
  } finally {
    await house.close()
  }
}

/** From when a schedule was due to when its notification was stored. */
async function late(
  house: House,
  connection: Connection,
  name: string,
): Promise<{ readonly median: number; readonly p99: number }> {
  await house.backend.call('declareTopic', { params: { app, topic: 'nobody' }, body: {} })
  const when = { from: '2026-01-01T00:00', zone: 'Europe/Oslo', repeat: 'FREQ=YEARLY' }
  await house.backend.call('saveSchedule', {
    params: { app, schedule: name },
    body: { when, notification: { to: { any: ['topic:nobody'] }, content: { title: 'T' } } },
  })
  await connection.query(
    `insert into schedules (app_no, environment, name, timing, notification, grace_seconds, paused, next_at, next_id, made_by,
        changed_at)
      select app_no, environment, concat(name, '-', seq), timing, notification, grace_seconds, paused,
        utc_timestamp(3) + interval 3 second + interval (seq * ${withinSeconds * 1_000} div ${count}) * 1000 microsecond,
        unhex(md5(concat(name, seq))), made_by, changed_at
      from seq_1_to_${count} straight_join schedules where name = ?`,
    [name],
  )
  for (;;) {
    const [rows] = await connection.query(
      `select timestampdiff(microsecond, r.due_at, r.settled_at) div 1000 as ms
       from schedule_runs r join schedules s on s.no = r.schedule_no where s.name like ? order by ms`,
      [`${name}-%`],
    )
    const all = (rows as { ms: number }[]).map(({ ms }) => Number(ms))
    if (all.length === count) return { median: all[count >> 1]!, p99: all[Math.floor(count * 0.99)]! }
    await wait(2_000)
  }
}
