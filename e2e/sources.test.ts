import { createHmac } from 'node:crypto'
import { writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { Client, type NewSource, type NewTrigger, ProblemError } from '@zbell/contract'
import type { Handset } from '@zbell/standins'
import { createConnection } from 'mysql2/promise'
import { until, zbell } from './harness/programs.ts'
import { atLength, inScope } from './harness/scope.ts'
import { app, params, World } from './harness/world.ts'

let world: World
let client: Client
let nora: Handset

beforeAll(async () => {
  world = await World.open()
  client = world.backend
  nora = await world.standins.registry.make({
    id: 'nora-android',
    app,
    model: 'Fjordfone',
    platform: 'android',
    user: 'nora',
    locale: 'nb',
  })
  await run(
    `create table sailings (id int primary key, route varchar(20) not null, vessel varchar(40) not null, delay int,
       departs datetime not null default '2026-11-28 16:30:00')`,
    `insert into sailings (id, route, vessel, delay) values (101, 'route-1', 'Kittiwake', 0), (204, 'route-2', 'Sandpiper', 0)`,
  )
  await client.call('joinTopic', { params: { app, topic: 'route-1' }, body: { users: ['nora'] } })
  await client.call('saveTemplate', {
    params: { app, template: 'delay' },
    body: {
      content: {
        title: '{vessel} is {delay, plural, one {# minute} other {# minutes}} late',
        perLanguage: { nb: { title: '{vessel} er {delay, plural, one {# minutt} other {# minutter}} forsinket' } },
      },
      declares: { vessel: { type: 'text' }, delay: { type: 'number' } },
    },
  })
})
afterAll(() => world.close())

/** As the company’s own software does, behind everybody’s back. */
async function run(...statements: string[]): Promise<void> {
  const connection = await createConnection(world.databaseUrl)
  try {
    for (const one of statements) await connection.query(one)
  } finally {
    await connection.end()
  }
}
const command = (...args: string[]) =>
  zbell(args, { ZBELL_URL: world.url, ZBELL_KEY: world.backendKey, ZBELL_APP: app })
const save = (source: string, body: NewSource) => client.call('saveSource', { params: { app, source }, body })
const listen = (trigger: string, body: NewTrigger) =>
  client.call('saveTrigger', { params: { app, trigger }, body: { enabled: true, ...body } })
const firings = async (trigger: string) =>
  (await client.call('listFirings', { params: { app, trigger }, query: { limit: 200 } })).items
const refusal = (call: Promise<unknown>) =>
  call.then(
    () => {
      throw new Error('it was not refused')
    },
    (error: unknown) => {
      if (error instanceof ProblemError) return error.problem
      throw error
    },
  )

const compared = (): NewSource => ({
  kind: 'table',
  url: world.databaseUrl,
  table: 'sailings',
  by: 'comparison',
  key: ['id'],
  watch: ['delay'],
  everySeconds: 1,
})
const late: NewTrigger = {
  source: 'sailings',
  when: 'row.delay >= 15 && (before.delay < 15 || !has(before.delay))',
  to: { any: ["'topic:' + row.route"] },
  template: 'delay',
  values: { vessel: 'row.vessel', delay: 'row.delay' },
  key: 'string(row.id)',
  options: { tag: "'sailing-' + string(row.id)" },
}

describe('a row that is changed with plain SQL', () => {
  test('rings whoever it concerns in their language, with the right words, and the log leads there', async () => {
    await save('sailings', compared())
    await listen('sailing-late', late)
    await run('update sailings set delay = 20 where id = 101', 'update sailings set delay = 5 where id = 204')
    const [shown] = await until(
      async () => nora.state.lockScreen,
      (all) => all.length > 0,
    )
    expect(shown).toMatchObject({ title: 'Kittiwake er 20 minutter forsinket', tag: 'sailing-101' })
    const log = await firings('sailing-late')
    expect(log.map(({ key, state }) => `${key} ${state}`).sort()).toEqual(['101 rung', '204 no-case'])
    const rung = log.find(({ state }) => state === 'rung')
    expect(rung).toMatchObject({
      notification: shown?.notification,
      given: { row: { id: 101, delay: 20 }, before: { id: 101, delay: 0 } },
    })
  })

  test('that nobody follows says so, and goes on', async () => {
    await run('update sailings set delay = 30 where id = 204')
    const log = await until(
      () => firings('sailing-late'),
      (all) => all.some(({ key, state }) => key === '204' && state === 'nobody'),
    )
    expect(log.find(({ state }) => state === 'nobody')?.notification).toBeNull()
  })

  test('is tried before anything rings, as it was pasted, with the types of its source', async () => {
    await listen('typed', { ...late, when: 'row.departs > timestamp("2026-01-01T00:00:00Z") && gone == false' })
    const tried = await client.call('tryTrigger', {
      params: { app, trigger: 'typed' },
      body: {
        row: { id: 101, route: 'route-1', vessel: 'Kittiwake', delay: '20', departs: '2026-11-28T16:30:00Z' },
      } as never,
    })
    expect(tried).toMatchObject({ is: 'fires', key: '101', review: { devices: { android: 1, ios: 0, web: 0 } } })
    const gone = await client.call('tryTrigger', {
      params: { app, trigger: 'typed' },
      body: { row: { id: 101, departs: '2026-11-28T16:30:00Z' }, gone: true } as never,
    })
    expect(gone).toMatchObject({ is: 'no-case' })
    await client.call('deleteTrigger', { params: { app, trigger: 'typed' } })
  })
})

const crossings = inScope({ default: 1_000, all: 5_000, long: 5_000 })

atLength('a service that is killed while rows change rings for each of them once', async () => {
  await run(
    'create table crossings (id int primary key, delay int not null)',
    `insert into crossings select seq, 0 from seq_1_to_${crossings}`,
  )
  await save('crossings', { ...compared(), table: 'crossings' } as NewSource)
  await listen('crossing', {
    source: 'crossings',
    when: 'row.delay > 0',
    to: { any: ["'user:nora'"] },
    content: { title: 'Crossing {id}' },
    values: { id: 'row.id' },
    options: { mode: 'wake' },
  })
  const rung = async () => {
    const [row] = (await world.ask(
      `select count(*) as firings, count(distinct key_text) as rows_, count(distinct notification_id) as notifications
       from firings where state = 'rung' and trigger_no = (select no from triggers where name = 'crossing')`,
    )) as { firings: number; rows_: number; notifications: number }[]
    return row!
  }
  const step = crossings / 5
  for (let from = 1; from <= crossings; from += step) {
    await run(`update crossings set delay = 1 where id between ${from} and ${from + step / 2 - 1}`)
    await run(`update crossings set delay = 1 where id between ${from + step / 2} and ${from + step - 1}`)
    if (from === step + 1 || from === 3 * step + 1) {
      const { firings: before } = await rung()
      await until(rung, ({ firings: now }) => now > before)
      await world.killService()
      await world.startService()
    }
  }
  expect(await until(rung, ({ firings: all }) => all >= crossings)).toEqual({
    firings: crossings,
    rows_: crossings,
    notifications: crossings,
  })
  const [left] = (await world.ask('select count(*) as waiting from trigger_events')) as { waiting: number }[]
  expect(left?.waiting).toBe(0)
  const [sent] = (await world.ask(`select count(*) as sent from notifications where sent_by = 'trigger:crossing'`)) as {
    sent: number
  }[]
  expect(sent?.sent).toBe(crossings)
})

describe('at the command line', () => {
  test('a source is saved from a file, tried, shown without its password, saved again, and deleted', async () => {
    const file = join(world.data, 'sailings.yaml')
    writeFileSync(
      file,
      'source: board\nkind: table\ntable: sailings\nby: comparison\nkey: [id]\nwatch: [delay]\neverySeconds: 30\n',
    )
    const saved = await command('source', 'save', file, '--address', world.databaseUrl)
    expect(saved).toMatchObject({ code: 0 })
    expect(saved.out).toContain('# read 2 rows')
    const away = await command('source', 'save', file, '--address', world.databaseUrl.replace(/:\d+\//, ':1/'))
    expect(away).toMatchObject({ code: 6, err: expect.stringContaining('nothing answers at') })
    const { password } = new URL(world.databaseUrl)
    for (const said of [saved.out, (await command('source', 'show', 'board', '--json')).out]) {
      expect(said).not.toContain(password)
      expect(said).toContain(':•••@127.0.0.1')
    }
    writeFileSync(file, (await command('source', 'show', 'board')).out)
    expect((await command('source', 'save', file)).out).toContain('# read 2 rows')
    const tried = await command('source', 'try', 'board')
    expect(tried.out).toMatch(/vessel +text +Kittiwake +Sandpiper/)
    expect((await command('source', 'list')).out).toMatch(/sailings +table +fine .* sailing-late/)
    expect(await command('source', 'delete', 'sailings')).toMatchObject({ code: 6 })
    expect(await command('source', 'delete', 'board')).toMatchObject({ code: 0 })
    expect(await command('source', 'show', 'board')).toMatchObject({ code: 5 })
  })

  test('a source whose table is gone cannot be tried, and Health says so', async () => {
    await run('create table piers (id int primary key, delay int not null)')
    await save('piers', { ...compared(), table: 'piers' } as NewSource)
    await run('drop table piers')
    expect(await command('source', 'try', 'piers')).toMatchObject({ code: 7 })
    await until(
      () => client.call('readHealth', { params }),
      ({ troubles }) => troubles.some(({ detail }) => detail.startsWith('The source piers cannot be read')),
    )
    await client.call('deleteSource', { params: { app, source: 'piers' } })
  })

  test('whoever has no right to it sees nothing of it', async () => {
    await world.makeApp('other')
    const { problem } = await client
      .call('readSource', { params: { app: 'other', source: 'sailings' } })
      .then(() => ({ problem: undefined }))
      .catch((error: ProblemError) => error)
    expect(problem?.code).toBe('unknown-app')
  })

  test('who may send may try a source, and neither save nor delete one', async () => {
    const { key } = await world.operator.call('makeKey', {
      params,
      body: { kind: 'backend', environment: 'development', name: 'sender', role: 'sender' },
    })
    const sender = new Client({ url: world.url, bearer: key })
    const at = { params: { app, source: 'sailings' } }
    expect((await sender.call('trySource', at)).columns).toContainEqual({ name: 'delay', type: 'number' })
    // One after the other: a refusal that nobody waits for yet counts as one that nobody hears.
    for (const call of [
      () => sender.call('saveSource', { ...at, body: compared() }),
      () => sender.call('deleteSource', at),
    ])
      expect((await refusal(call())).code).toBe('not-allowed')
  })
})

describe('what others post in their own form', () => {
  const warnings = (reference: string, more: object = {}) =>
    JSON.stringify({ station: 'Farrow Isle', warnings: [{ reference, kind: 'Gale', gusts: 24, ...more }] })
  const expression = 'warnings.{ "id": reference, "type": "example.weather", "data": { "kind": kind, "gusts": gusts } }'
  const post = (address: string, body: string, headers: Record<string, string>) =>
    fetch(address, { method: 'POST', body, headers: { 'content-type': 'application/json', ...headers } })
  const signed = (secret: string, body: string) => ({
    'x-station': `sha256=${createHmac('sha256', secret).update(body).digest('hex')}`,
  })

  test('becomes occurrences, each once, for the triggers of the source and for those of what happens', async () => {
    const made = await save('weather', {
      kind: 'incoming',
      verify: { by: 'hmac-sha256', header: 'x-station', prefix: 'sha256=' },
      occurrences: expression,
    })
    const { address, secret } = made
    expect((await save('weather', made.definition as NewSource)).secret).toBeNull()
    const warn: NewTrigger = {
      source: 'weather',
      to: { any: ["'user:nora'"] },
      content: { title: '{kind} of {gusts} m/s' },
      values: { kind: 'event.data.kind', gusts: 'event.data.gusts' },
    }
    await listen('warn', warn)
    await listen('happens', { ...warn, source: 'occurrences', types: ['example.weather'] })
    const body = warnings('w-1')
    for (const known of [0, 1]) {
      const answer = await post(address!, body, signed(secret!, body))
      expect([answer.status, await answer.json()]).toEqual([202, { taken: 1 - known, known }])
    }
    for (const name of ['warn', 'happens'])
      expect(
        (
          await until(
            () => firings(name),
            (all) => all.length > 0,
          )
        ).map(({ state }) => state),
      ).toEqual(['rung'])
    const tried = await client.call('trySource', { params: { app, source: 'weather' } })
    expect(tried.rows[0]).toEqual(JSON.parse(body))
    expect(tried.came[0]).toMatchObject({ body: JSON.parse(body), makes: [{ type: 'example.weather' }], says: null })
    expect((await command('source', 'try', 'weather')).out).toContain('  makes example.weather\n')
  })

  test('is refused when it is not signed, says nothing, or is too large', async () => {
    const { address, secret } = await save('posts', {
      kind: 'incoming',
      verify: { by: 'hmac-sha256', header: 'x-station', prefix: 'sha256=' },
      occurrences: expression,
    })
    const body = warnings('w-2')
    const statusOf = async (text: string, headers: Record<string, string>) =>
      (await post(address!, text, headers)).status
    expect(await statusOf(body, {})).toBe(401)
    expect(await statusOf(body, signed('guess', body))).toBe(401)
    expect(await statusOf(`${body} `, signed(secret!, body))).toBe(401)
    expect(await statusOf('{', signed(secret!, '{'))).toBe(422)
    const wrong = JSON.stringify({ warnings: [{ reference: 7 }] })
    const answer = await post(address!, wrong, signed(secret!, wrong))
    expect([answer.status, ((await answer.json()) as { detail: string }).detail]).toEqual([
      422,
      expect.stringContaining('makes an occurrence whose /id'),
    ])
    const none = JSON.stringify({ station: 'Saltmere' })
    expect(await (await post(address!, none, signed(secret!, none))).json()).toEqual({ taken: 0, known: 0 })
    const large = warnings('w-3', { kind: 'x'.repeat(300_000) })
    expect(await statusOf(large, signed(secret!, large))).toBe(413)
    expect((await post(`${world.url}/v1/incoming/nobody`, body, {})).status).toBe(404)
    const hostile = `{"warnings": [{"reference": "w-4", "kind": {"__proto__": 1}}]}`
    expect(await statusOf(hostile, signed(secret!, hostile))).toBe(422)
    const half = `{"warnings": [{"reference": "w-5", "kind": "\\ud83d"}]}`
    expect(await statusOf(half, signed(secret!, half))).toBe(422)
  })

  test('is known by what is signed, under whatever name it comes again, and speaks for its source alone', async () => {
    const { address, secret } = await save('gauge', {
      kind: 'incoming',
      verify: { by: 'hmac-sha256', header: 'x-station', prefix: 'sha256=' },
      occurrences: '{ "type": "example.level", "source": source, "data": { "level": level } }',
    })
    const take = async (given: object, headers: Record<string, string> = {}) => {
      const body = JSON.stringify(given)
      const answer = await post(address!, body, { ...signed(secret!, body), ...headers })
      return [answer.status, (await answer.json()) as { taken?: number; detail?: string }] as const
    }
    expect(await take({ level: 3 })).toMatchObject([202, { taken: 1 }])
    expect(await take({ level: 3 }, { 'webhook-id': 'another' })).toMatchObject([202, { taken: 0 }])
    expect(await take({ level: 4 }, { 'webhook-id': 'another' })).toMatchObject([202, { taken: 1 }])
    expect(await take({ level: 5, source: 'URN:zbell:source:weather' })).toMatchObject([
      422,
      { detail: expect.stringContaining('is not its own') },
    ])
    const other = client.call('reportOccurrences', {
      params: { app },
      body: { specversion: '1.0', id: '1', source: 'urn:zbell:source:gauge', type: 'example.level' },
    })
    expect((await refusal(other)).errors).toMatchObject([{ pointer: '/source' }])
  })

  test('an old and a new secret are both believed, while one is replaced', async () => {
    const verify = { by: 'secret', header: 'x-secret' } as const
    const secrets = ['an old secret of the station', 'a new secret of the station']
    const { address, secret } = await save('changing', { kind: 'incoming', verify, secrets, occurrences: '[]' })
    expect(secret).toBeNull()
    for (const one of secrets) expect((await post(address!, '{}', { 'x-secret': one })).status).toBe(202)
    await save('changing', { kind: 'incoming', verify, secrets: secrets.slice(1), occurrences: '[]' })
    expect((await post(address!, '{}', { 'x-secret': secrets[0]! })).status).toBe(401)
    expect(world.log).not.toContain(address!.split('/').at(-1))
  })
})

test('no source leads into a private network without the operator’s leave', async () => {
  const careful = await world.startSecond({ ZB_ALLOW_PRIVATE_ADDRESSES: 'false', ZB_ONLY: 'http' })
  try {
    for (const url of [
      'mysql://u:p@127.0.0.1:3306/x',
      'postgres://u:p@10.0.0.7/x',
      'mysql://u:p@[::1]/x',
      'https://169.254.169.254/latest',
      'http://example.com/',
    ]) {
      const body = url.startsWith('http') ? { kind: 'poll', url, rows: '$', key: ['id'] } : { ...compared(), url }
      const problem = await refusal(
        careful.client.call('saveSource', { params: { app, source: 'inside' }, body: body as NewSource }),
      )
      expect([url, problem.errors?.[0]?.pointer]).toEqual([url, '/url'])
    }
  } finally {
    await careful.stop()
  }
})

test.each<[string, object, string]>([
  ['neither a table nor a statement', { table: undefined }, '/table'],
  ['both', { select: 'select 1' }, '/table'],
  ['a cursor for a comparison', { cursor: 'id' }, '/cursor'],
  ['no cursor', { by: 'cursor' }, '/cursor'],
  ['no key', { key: [] }, '/key'],
  ['every so seldom', { everySeconds: 0 }, '/everySeconds'],
  ['another address', { url: 'ftp://host/x' }, '/url'],
  ['a member that there is not', { colums: [] }, ''],
])('a source that says %s is refused at its place', async (_name, more, pointer) => {
  const problem = await refusal(save('bad', { ...compared(), ...more } as NewSource))
  expect(problem.errors?.map((one) => one.pointer)).toContain(pointer)
})

test('a source is not named as what is there by itself', async () => {
  expect((await refusal(save('occurrences', compared()))).errors?.[0]?.pointer).toBe('/source')
})
