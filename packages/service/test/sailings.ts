import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll, beforeEach } from '@jest/globals'
import type { TriggerDefinition } from '@zbell/core/triggers'
import { sql } from 'drizzle-orm'
import type { WrittenSource } from '../src/sources/sources.ts'
import { addDevice } from './scratch-database.ts'
import { type Process, type SourcesApp, sourcesApp } from './scratch-sources.ts'

/** The company, and one process that reads its sailings; both anew for each file, the tables for each test. */
export let app: SourcesApp
export let one: Process
let dir: string

export function readSailings(): void {
  beforeAll(async () => {
    dir = mkdtempSync(join(tmpdir(), 'bell-sources-'))
    app = await sourcesApp(dir)
    await addDevice(app, 1)
  })
  afterAll(async () => {
    await app.close()
    rmSync(dir, { recursive: true, force: true })
  })
  beforeEach(async () => {
    for (const table of ['triggers', 'trigger_versions', 'trigger_events', 'firings', 'sources', 'source_pages'])
      await app.database.change(sql`delete from ${sql.identifier(table)}`)
    await app.run(
      'drop table if exists sailings',
      `create table sailings (id int primary key, vessel varchar(40) not null, delay int, status varchar(20) not null default 'on time',
         berth int, departs datetime(3), cancelled tinyint(1) not null default 0, note longtext, seal varbinary(16))`,
      `insert into sailings (id, vessel, delay, departs) values (101, 'Kittiwake', 0, '2026-11-28 17:30:00'), (204, 'Sandpiper', null, '2026-11-28 17:40:00')`,
    )
    one = app.process()
  })
}

export const compared: WrittenSource = {
  kind: 'table',
  table: 'sailings',
  by: 'comparison',
  key: ['id'],
  watch: ['delay', 'status', 'berth'],
}
export const late: TriggerDefinition = {
  source: 'sailings',
  when: 'row.delay >= 15 && (before.delay < 15 || !has(before.delay))',
  to: { any: ["'everyone'"] },
  content: { title: '{vessel} is {delay} minutes late' },
  values: { vessel: 'row.vessel', delay: 'row.delay', departs: 'row.departs', berth: 'row.berth' },
  key: 'string(row.id)',
}
export const save = (source: WrittenSource = compared, name = 'sailings') =>
  one.sources.save(app.scope, name, { url: app.url, ...source } as WrittenSource, 'test')
export const listen = (definition: TriggerDefinition = late, name = 'sailing-late') =>
  one.triggers.save(app.scope, name, { ...definition, enabled: true }, 'test')
export const source = async (name = 'sailings') =>
  (await one.sources.show(await one.sources.require(app.scope, name))).row
/** Looks once, and lets what was found fire. */
export async function look(process = one, name = 'sailings'): Promise<void> {
  const { no } = await process.sources.require(app.scope, name)
  await process.poller.pollNow(no)
  while ((await process.triggers.fireWaiting()) > 0);
}
export const firings = () =>
  app.database.rows<{ key: string; state: string; says: string | null; given: string }>(
    sql`select key_text as ${sql.identifier('key')}, state, says, cast(given as char) as given from firings order by no`,
  )
export const states = async () => (await firings()).map(({ key, state }) => `${key} ${state}`)
export const titles = async () =>
  (
    await app.database.rows<{ title: string }>(
      sql`select json_value(content, '$.title') as title from notifications order by no`,
    )
  ).map(({ title }) => title)
