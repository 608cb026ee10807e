import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll, beforeEach, expect, test } from '@jest/globals'
import { sql } from 'drizzle-orm'
import type { WrittenSource } from '../src/sources/sources.ts'
import { openPostgres, type Postgres } from './postgres.ts'
import { addDevice } from './scratch-database.ts'
import { answerWithinMs, type Process, type SourcesApp, sourcesApp } from './scratch-sources.ts'

let app: SourcesApp
let postgres: Postgres
let dir: string
let one: Process

beforeAll(async () => {
  dir = mkdtempSync(join(tmpdir(), 'bell-sources-'))
  ;[app, postgres] = await Promise.all([sourcesApp(dir), openPostgres()])
  await addDevice(app, 1)
  one = app.process()
})
afterAll(async () => {
  await app.close()
  await postgres.close()
  rmSync(dir, { recursive: true, force: true })
})
beforeEach(async () => {
  for (const table of ['triggers', 'trigger_versions', 'trigger_events', 'firings', 'sources', 'source_pages'])
    await app.database.change(sql`delete from ${sql.identifier(table)}`)
  await postgres.write(
    'drop table if exists sailings',
    `create table sailings (id bigint primary key, "Vessel" text not null, delay numeric, late boolean not null default false,
       departs timestamptz not null default '2026-11-28 18:30:00.123456+01', seal bytea, seen timestamp)`,
    `insert into sailings (id, "Vessel", delay, seal) values (101, 'Kittiwake', 0, '\\x00ff'), (204, 'Sandpiper', null, null)`,
  )
})

const compared: WrittenSource = {
  kind: 'table',
  table: 'public.sailings',
  by: 'comparison',
  key: ['id'],
  watch: ['delay', 'late'],
}
const save = (source: WrittenSource) =>
  one.sources.save(app.scope, 'sailings', { url: postgres.url, ...source } as WrittenSource, 'test')
const listen = (when: string | undefined, values: Record<string, string> = { vessel: 'row.Vessel' }) =>
  one.triggers.save(
    app.scope,
    'late',
    { source: 'sailings', when, to: { any: ["'everyone'"] }, content: { title: '{vessel}' }, values, enabled: true },
    'test',
  )
async function look(): Promise<void> {
  const { no } = await one.sources.require(app.scope, 'sailings')
  await one.poller.pollNow(no)
  while ((await one.triggers.fireWaiting()) > 0);
}
const states = async () =>
  (
    await app.database.rows<{ key: string; state: string }>(
      sql`select key_text as ${sql.identifier('key')}, state from firings order by no`,
    )
  ).map(({ key, state }) => `${key} ${state}`)

test('a PostgreSQL table shows its columns with their types', async () => {
  await save(compared)
  const tried = await one.sources.try(app.scope, 'sailings')
  expect(tried.columns.map(({ name, type }) => `${name} ${type}`)).toEqual([
    'id number',
    'Vessel text',
    'delay number',
    'late boolean',
    'departs timestamp',
    'seal binary',
    'seen timestamp',
  ])
  expect(tried.rows[0]).toEqual({
    id: 101,
    Vessel: 'Kittiwake',
    delay: 0,
    late: false,
    departs: new Date('2026-11-28T17:30:00.123Z'),
    seal: '00ff',
    seen: null,
  })
})

test('by comparison it rings for what changes, with the whole row', async () => {
  await save(compared)
  await listen('row.delay >= 15 && !has(before.delay) && row.late')
  await postgres.write('update sailings set delay = 15.5, late = true where id = 204')
  await look()
  await look()
  expect(await states()).toEqual(['204 rung'])
})

test('by cursor it reads each new row once, step by step', async () => {
  await save({ kind: 'table', table: 'sailings', by: 'cursor', key: ['id'], cursor: 'departs' })
  await listen('false')
  await postgres.write(
    `insert into sailings (id, "Vessel", departs) select 1000 + n, 'x', '2026-11-29 18:30:00+01'::timestamptz + (n / 5500) * interval '1 microsecond' from generate_series(1, 12000) n`,
  )
  const { no } = await one.sources.require(app.scope, 'sailings')
  for (let n = 0; n < 2; n++) await one.poller.pollNow(no)
  const [found] = await app.database.rows<{ all: number; different: number }>(
    sql`select count(*) as ${sql.identifier('all')}, count(distinct json_value(event, '$.key')) as different from trigger_events`,
  )
  expect(found).toEqual({ all: 12_000, different: 12_000 })
})

test('a whole number beyond 2^53 still names its row', async () => {
  await save(compared)
  await listen("string(row.id) == '9007199254740993'")
  await postgres.write(`insert into sailings (id, "Vessel") values (9007199254740993, 'x'), (9007199254740994, 'y')`)
  await look()
  expect((await states()).sort()).toEqual(['9007199254740993 rung', '9007199254740994 no-case'])
})

test.each([
  ['a second statement', 'select 1 as id) as x; drop table sailings; --', 'syntax error'],
  ['a statement that writes', 'delete from sailings returning *', 'syntax error'],
  ['a function that writes', "select 1 as id, setval('numbers', 7) as delay, true as late", 'read-only transaction'],
  [
    'a statement that takes too long',
    'select 1 as id, 2 as delay, true as late from pg_sleep(60)',
    `took longer than ${answerWithinMs / 1_000} seconds`,
  ],
])('%s is refused, and changes nothing', async (_name, select, says) => {
  await postgres.write('create sequence if not exists numbers')
  await save({ ...compared, table: undefined, select } as WrittenSource)
  for (let waits = 0; waits < 150; waits++) {
    const { fault } = await one.sources.require(app.scope, 'sailings')
    if (fault !== null) break
    await new Promise((done) => setTimeout(done, 200))
  }
  expect((await one.sources.require(app.scope, 'sailings')).fault).toContain(says)
  await postgres.write('select 1 / (count(*) = 2)::int from sailings')
})

test('a PostgreSQL that is stopped says so, other sources go on, and what changed by the time it is back rings', async () => {
  await save(compared)
  await listen(undefined)
  await app.run(
    'create table if not exists crossings (id int primary key, delay int not null)',
    'replace into crossings values (1, 0)',
  )
  await one.sources.save(
    app.scope,
    'crossings',
    { kind: 'table', url: app.url, table: 'crossings', by: 'comparison', key: ['id'] },
    'test',
  )
  await one.triggers.save(
    app.scope,
    'crossing',
    { source: 'crossings', to: { any: ["'everyone'"] }, content: { title: 'x' }, enabled: true },
    'test',
  )
  await postgres.write('update sailings set delay = 30 where id = 204')
  await postgres.stop()
  await look()
  expect((await one.sources.require(app.scope, 'sailings')).fault).toMatch(/^(hung up|cannot be reached)/)
  await app.run('update crossings set delay = 5')
  await one.poller.pollNow((await one.sources.require(app.scope, 'crossings')).no)
  while ((await one.triggers.fireWaiting()) > 0);
  expect(await states()).toEqual(['1 rung'])
  await postgres.start()
  await look()
  expect(await states()).toEqual(['1 rung', '204 rung'])
  expect((await one.sources.require(app.scope, 'sailings')).fault).toBeNull()
})

test('a PostgreSQL that breaks off its sessions', async () => {
  await save(compared)
  await listen(undefined)
  await postgres.write(
    'update sailings set delay = 30 where id = 101',
    'select pg_terminate_backend(pid) from pg_stat_activity where pid <> pg_backend_pid()',
  )
  await look()
  expect(await states()).toEqual(['101 rung'])
  expect((await one.sources.require(app.scope, 'sailings')).faults).toBe(0)
})

test('a password that was changed is refused in words, and said anew it goes on where it was', async () => {
  await save(compared)
  await listen(undefined)
  await postgres.write("create role clerk login password 'old'", 'grant select on sailings to clerk')
  const urlOf = (password: string) => postgres.url.replace('harbour:harbour', `clerk:${password}`)
  await save({ ...compared, url: urlOf('old') } as WrittenSource)
  await postgres.write(
    "alter role clerk password 'new'",
    'update sailings set delay = 30 where id = 101',
    "select pg_terminate_backend(pid) from pg_stat_activity where usename = 'clerk'",
  )
  await look()
  expect((await one.sources.require(app.scope, 'sailings')).fault).toMatch(/^refuses the user or the password/)
  await save({ ...compared, url: urlOf('new') } as WrittenSource)
  await look()
  expect(await states()).toEqual(['101 rung'])
})
