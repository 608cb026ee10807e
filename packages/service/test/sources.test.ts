import { beforeEach, describe, expect, test } from '@jest/globals'
import { type TriggerDefinition, tableLimits } from '@zbell/core/triggers'
import { sql } from 'drizzle-orm'
import { until } from '../../../e2e/harness/programs.ts'
import type { WrittenSource } from '../src/sources/sources.ts'
import {
  app,
  compared,
  firings,
  late,
  listen,
  look,
  one,
  readSailings,
  save,
  source,
  states,
  titles,
} from './sailings.ts'

readSailings()

describe('a table by comparison', () => {
  test('is taken in when it is saved, and rings for what changes from then on', async () => {
    await save()
    // A slow machine answers before the first look is over.
    const { note } = await until(
      () => source(),
      (row) => row.note !== null,
    )
    expect(note).toBe('read 2 rows')
    await listen()
    await look()
    expect(await firings()).toEqual([])
    await app.run('update sailings set delay = 20 where id = 101')
    await look()
    await look()
    expect(await states()).toEqual(['101 rung'])
  })

  test('knows a row that is new, one that was NULL before, and one that is gone', async () => {
    await save()
    await listen({
      ...late,
      when: undefined,
      cases: [
        { when: 'gone', content: { title: 'gone {vessel}' }, values: { vessel: "'sailing ' + string(row.id)" } },
        { when: 'before == {}', content: { title: 'new {vessel}' } },
        { when: '!has(before.delay)', content: { title: 'late {vessel} at {departs}' } },
      ],
      values: { vessel: 'row.vessel', departs: 'row.departs', berth: 'row.berth' },
    })
    await app.run(
      'update sailings set delay = 5 where id = 204',
      `insert into sailings (id, vessel) values (312, 'Turnstone')`,
      'delete from sailings where id = 101',
    )
    await look()
    expect((await states()).sort()).toEqual(['101 rung', '204 rung', '312 rung'])
    expect((await titles()).slice(-3).sort()).toEqual(['gone {vessel}', 'late {vessel} at {departs}', 'new {vessel}'])
  })
})

test('a table of which nobody names the columns may become empty, and full again', async () => {
  await save({ ...compared, watch: undefined } as WrittenSource)
  await listen({ ...late, when: undefined, values: { vessel: 'row.vessel', delay: 'row.id' } })
  await app.run('delete from sailings')
  await look()
  await app.run(`insert into sailings (id, vessel) values (101, 'Kittiwake')`)
  await look()
  expect((await states()).sort()).toEqual(['101 rung', '101 rung', '204 rung'])
})

test('a connection that was hung up between two poller is made anew, and nobody hears of it', async () => {
  await save()
  await listen()
  await look()
  await app.run(
    'update sailings set delay = 40 where id = 101',
    // As a server does with connections that are idle for long.
    `begin not atomic for one in (select id from information_schema.processlist where user = 'reader') do
       execute immediate concat('kill ', one.id); end for; end`,
  )
  await look()
  expect(await states()).toEqual(['101 rung'])
  expect(await source()).toMatchObject({ fault: null, faults: 0 })
})

describe('what stands in a table', () => {
  test('may be NUL, binary, megabytes, SQL, expressions and placeholders: it stays a value', async () => {
    await save({ ...compared, watch: ['note', 'seal', 'delay'] } as WrittenSource)
    await listen({
      ...late,
      when: 'row.delay == 1',
      content: { title: '{note}' },
      values: { note: 'row.note', seal: 'row.seal' },
    })
    const notes = [
      'a\\0b',
      `'); drop table sailings; -- `,
      '{delay, plural, one {x} other {y}} {{note}}',
      `' + row.id + '`,
      '__proto__',
      'Ø😀\\r\\n',
    ]
    await app.run(
      ...notes.map(
        (note, at) =>
          `insert into sailings (id, vessel, delay, note, seal) values (${at + 1}, 'x', 1, '${note.replaceAll("'", "''")}', x'00ff')`,
      ),
      `insert into sailings (id, vessel, delay, note) values (7, 'x', 1, repeat('y', 5000000))`,
    )
    await look()
    expect(await states()).toEqual(expect.arrayContaining([1, 2, 3, 4, 5, 6, 7].map((id) => `${id} rung`)))
    const values = await app.database.rows<{ note: string; seal: string }>(
      sql`select json_value(filling, '$.values.note') as note, json_value(filling, '$.values.seal') as seal
          from notifications order by no desc limit 7`,
    )
    expect(values.map(({ note }) => note)).toEqual(
      expect.arrayContaining([
        `'); drop table sailings; -- `,
        '{delay, plural, one {x} other {y}} {{note}}',
        '__proto__',
      ]),
    )
    expect(values.some(({ seal }) => seal === '00ff')).toBe(true)
    expect(Math.max(...values.map(({ note }) => note.length))).toBeLessThanOrEqual(4_000)
  })

  test.each([
    ['x topic:all', 'fault'],
    ['everyone', 'nobody'],
    ['ada:bert', 'nobody'],
    ['', 'fault'],
    ['ada\\nuser:bert', 'fault'],
  ])('never makes another target than is meant: a vessel named %j', async (vessel, state) => {
    await save()
    await listen({
      ...late,
      when: undefined,
      to: { any: ["'user:' + row.vessel"] },
      content: { title: 'x' },
      values: {},
    })
    await app.run(`insert into sailings (id, vessel) values (1, '${vessel}')`)
    await look()
    expect(await states()).toEqual([`1 ${state}`])
  })

  test('is masked in the log where the source says so, and only what is watched is in it', async () => {
    await save({ ...compared, mask: ['status'] } as WrittenSource)
    await listen()
    await app.run(`update sailings set delay = 30, status = 'secret' where id = 101`)
    await look()
    const [firing] = await firings()
    expect(JSON.parse(firing!.given)).toEqual({
      row: { id: 101, delay: 30, status: '•••', berth: null },
      before: { id: 101, delay: 0, status: '•••', berth: null },
    })
  })

  test('shows masked columns to nobody who tries the source or a trigger of it', async () => {
    await save({ ...compared, mask: ['status'] } as WrittenSource)
    await listen({ ...late, when: "row.status == 'on time'", key: 'string(row.id)' })
    const tried = await one.sources.try(app.scope, 'sailings')
    expect(tried.rows).toEqual([
      expect.objectContaining({ id: 101, vessel: 'Kittiwake', status: '•••' }),
      expect.objectContaining({ id: 204, status: '•••' }),
    ])
    const trial = await one.triggers.try(app.scope, 'sailing-late', { row: { id: 101 }, take: true })
    expect(JSON.stringify(trial)).not.toContain('on time"')
    expect(trial).toMatchObject({
      is: 'no-case',
      warnings: [{ pointer: '/take', detail: 'leaves out status, which the source masks: say it in the row' }],
    })
    const said = await one.triggers.try(app.scope, 'sailing-late', { row: { id: 101, status: 'on time' }, take: true })
    expect(said).toMatchObject({ cases: [{ holds: true }], warnings: [] })
  })

  test('may have an emoji where a long text is cut, and the source goes on', async () => {
    await save({ ...compared, watch: ['note'] } as WrittenSource)
    await listen({ ...late, when: 'row.note != ""', content: { title: 'Note' }, values: {} })
    const cutWithin = `concat(repeat('x', ${tableLimits.textChars - 2}), '🌊', repeat('y', 100))`
    await app.run(`update sailings set note = ${cutWithin} where id = 101`)
    await look()
    await app.run(`update sailings set note = 'short' where id = 204`)
    await look()
    expect((await source()).fault).toBeNull()
    expect((await states()).sort()).toEqual(['101 rung', '204 rung'])
  })

  test('that cannot be named or held is left out and said, and the others are taken', async () => {
    await app.run('alter table sailings drop primary key, modify id int null')
    await save()
    await listen()
    await app.run(
      `insert into sailings (id, vessel) values (null, 'x')`,
      'update sailings set delay = 20 where id = 101',
    )
    await look()
    expect(await states()).toEqual(['101 rung'])
    expect((await source()).leftOut).toBe('1 row left out; the first has a row whose id is NULL, so that it has no key')
    await app.run('delete from sailings where id is null')
    await look()
    expect((await source()).leftOut).toBeNull()
  })
})

describe('a table by cursor', () => {
  const bookings: WrittenSource = { kind: 'table', table: 'bookings', by: 'cursor', key: ['id'], cursor: 'no' }
  const booked: TriggerDefinition = {
    source: 'bookings',
    to: { any: ["'everyone'"] },
    content: { title: 'Booking {id}' },
    values: { id: 'row.id' },
  }
  const begin = async (more: Partial<WrittenSource> = {}) => {
    await save({ ...bookings, ...more } as WrittenSource, 'bookings')
    await listen(booked, 'booked')
  }
  beforeEach(() =>
    app.run(
      'drop table if exists bookings',
      'create table bookings (id varchar(20) primary key, no bigint not null, at datetime(6) not null default now(6), index (no), index (at))',
      `insert into bookings (id, no) values ('old', 9007199254740993)`,
    ),
  )

  test('begins behind the rows that there are, and reads each new one once, to the last digit', async () => {
    await begin()
    await app.run(
      `insert into bookings (id, no) values ('a', 9007199254740994), ('b', 9007199254740994), ('c', 9007199254740995)`,
    )
    for (let n = 0; n < 3; n++) await look(one, 'bookings')
    expect(await states()).toEqual(['a rung', 'b rung', 'c rung'])
  })

  test('finds a row that was committed late behind others, once', async () => {
    await begin()
    await app.run(`insert into bookings (id, no) values ('b', 9007199254740999)`)
    await look(one, 'bookings')
    await app.run(`insert into bookings (id, no) values ('a', 9007199254740998)`)
    await look(one, 'bookings')
    await look(one, 'bookings')
    expect(await states()).toEqual(['b rung', 'a rung'])
  })

  test('finds what a transaction commits that began before others and ends after them', async () => {
    await begin()
    const [late, early] = [await app.connect(), await app.connect()]
    try {
      await late.query('start transaction')
      await late.query(`insert into bookings (id, no) values ('late', 9007199254740995)`)
      await early.query(`insert into bookings (id, no) values ('early', 9007199254740996)`)
      await look(one, 'bookings')
      expect(await states()).toEqual(['early rung'])
      await late.query('commit')
    } finally {
      await Promise.all([late.end(), early.end()])
    }
    await look(one, 'bookings')
    expect(await states()).toEqual(['early rung', 'late rung'])
  })

  test('goes by a time to the microsecond, whatever that database’s clock shows', async () => {
    await app.run(`update bookings set at = '2020-01-01 00:00:00.000001'`)
    await begin({ cursor: 'at' } as Partial<WrittenSource>)
    await app.run(
      `insert into bookings (id, no, at) values ('a', 1, '2020-01-01 00:00:00.000002'), ('b', 2, '2020-01-01 00:00:00.000001')`,
    )
    await look(one, 'bookings')
    await look(one, 'bookings')
    expect((await states()).sort()).toEqual(['a rung', 'b rung'])
  })

  test('reads many rows with one value step by step, each once', async () => {
    await begin()
    await app.run(
      `insert into bookings (id, no) select concat('k', seq), 9007199254740993 + seq div 5500 from seq_1_to_12000`,
    )
    const { no } = await source('bookings')
    await one.poller.pollNow(no)
    const [found] = await app.database.rows<{ all: number; different: number }>(
      sql`select count(*) as ${sql.identifier('all')}, count(distinct json_value(event, '$.key')) as different from trigger_events`,
    )
    expect(found).toEqual({ all: 12_000, different: 12_000 })
  })

  test('refuses in words a fraction that it could not say again to the last digit', async () => {
    await app.run('alter table bookings modify no decimal(20, 2) not null')
    await save({ ...bookings } as WrittenSource, 'bookings')
    expect((await source('bookings')).fault).toContain('has a cursor with the value 900719925474099')
    await app.run(`update bookings set no = 1.5`)
    await save({ ...bookings } as WrittenSource, 'bookings')
    expect((await source('bookings')).fault).toBeNull()
  })

  test('refuses in words a cursor that is a text', async () => {
    await save({ ...bookings, cursor: 'id' } as WrittenSource, 'bookings')
    expect((await source('bookings')).fault).toBe(
      'has a cursor that is text; it has to be a number or a time that only grows',
    )
  })
})

describe('a trial', () => {
  test('of a source shows columns with their types, and rows', async () => {
    await save()
    const tried = await one.sources.try(app.scope, 'sailings')
    expect(tried.columns.map(({ name, type }) => `${name} ${type}`)).toEqual([
      'id number',
      'vessel text',
      'delay number',
      'status text',
      'berth number',
      'departs timestamp',
      'cancelled boolean',
      'note text',
      'seal binary',
    ])
    expect(tried.rows).toEqual(
      expect.arrayContaining([
        expect.objectContaining({ id: 101, cancelled: false, departs: new Date('2026-11-28T17:30:00Z') }),
      ]),
    )
  })
})
