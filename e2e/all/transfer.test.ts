import { spawnSync } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Imported } from '@zbell/contract'
import { dist, zbell } from '../harness/programs.ts'
import { app, params, World } from '../harness/world.ts'

let world: World
let dir: string
beforeAll(async () => {
  world = await World.open()
  dir = mkdtempSync(join(tmpdir(), 'bell-files-'))
})
afterAll(async () => {
  await world.close()
  rmSync(dir, { recursive: true, force: true })
})

const cli = (...args: string[]) => zbell(args, { ZBELL_URL: world.url, ZBELL_KEY: world.backendKey, ZBELL_APP: app })
const file = (name: string, text: string) => {
  writeFileSync(join(dir, name), text)
  return join(dir, name)
}
const user = async (name: string) => await world.backend.call('readUser', { params: { app, user: name } })
const post = async (what: string, type: string, body: string): Promise<[number, Imported & { detail?: string }]> => {
  const answer = await fetch(`${world.url}/v1/apps/${app}/import/${what}`, {
    method: 'POST',
    headers: { authorization: `Bearer ${world.backendKey}`, 'content-type': type },
    body,
  })
  return [answer.status, (await answer.json()) as Imported]
}

describe('users', () => {
  test('come in as CSV: every further column is an attribute; what is wrong is said of its line', async () => {
    const text = [
      'user,homePier,trips,bicycle,lives,topics',
      'ada,"Lantern Quay",12,true,"5.32,60.39",route-1 weather',
      'signe,Saltmere,,false,,',
      'has space,Saltmere,1,true,,',
      'haru,Gull Point,many,true,,',
    ].join('\r\n')
    const ran = await cli('import', 'users', file('users.csv', text))
    expect([ran.code, ran.out.split('\n')[0]]).toEqual([6, '2 taken, 2 refused.'])
    expect(ran.out).toMatch(/users\.csv:4 {2}user wants 1 to 128 characters/)
    expect(ran.out).toMatch(/users\.csv:5 {2}trips is of type text, and number was declared/)
    expect(await user('ada')).toMatchObject({
      attributes: { homePier: 'Lantern Quay', trips: 12, bicycle: true, lives: { longitude: 5.32, latitude: 60.39 } },
      topics: ['route-1', 'weather'],
    })
    expect((await user('signe')).attributes).toEqual({ homePier: 'Saltmere', bicycle: false })
  })

  test('whoever reads only the beginning of an export ends it without a complaint', async () => {
    const env = { ...process.env, ZBELL_URL: world.url, ZBELL_KEY: world.backendKey, ZBELL_APP: app }
    const rows = Array.from({ length: 5_000 }, (_, i) => `reader-${i}`).join('\n')
    expect((await post('users', 'text/csv', `user\n${rows}\n`))[1].taken).toBe(5_000)
    const { stdout, stderr } = spawnSync(
      'sh',
      ['-c', `"${process.execPath}" "${dist}zbell.mjs" export users | head -2`],
      {
        env,
        encoding: 'utf8',
      },
    )
    expect([stdout.trim().split('\n').length, stderr]).toEqual([2, ''])
  })

  test('go out and come back as they were, in both forms', async () => {
    await world.backend.call('changeUserAttributes', {
      params: { app, user: 'ada' },
      // Texts that look like something else, among them.
      body: { note: '=1+1', quote: 'a "b", c', postcode: '0150', plate: '15', said: 'true', spot: '24.9,60.2' },
    })
    for (const name of ['out.csv', 'out.ndjson']) {
      const out = join(dir, name)
      expect(await cli('export', 'users', '--output', out)).toMatchObject({ code: 0 })
      expect(statSync(out).mode & 0o777).toBe(0o600)
      const before = await user('ada')
      await world.changeDirectly('delete from user_attributes; delete from topic_users'.split('; ')[0]!)
      await world.changeDirectly('delete from topic_users')
      expect((await cli('import', 'users', out)).code).toBe(0)
      const after = await user('ada')
      expect([after.attributes, after.topics]).toEqual([before.attributes, before.topics])
    }
    // In a spreadsheet it must not run.
    expect(readFileSync(join(dir, 'out.csv'), 'utf8')).toContain("'=1+1")
  })
})

describe('devices', () => {
  test('come in by their tokens, once each, and their apps make them their own later', async () => {
    const tokens = Array.from({ length: 3 }, () => world.standins.mints.ios.mint())
    const lines = [
      ...tokens.map((token, i) => JSON.stringify({ platform: 'ios', token, user: `carried-${i}`, locale: 'nb' })),
      JSON.stringify({ platform: 'ios', token: tokens[0], user: 'carried-0', muted: true }),
      JSON.stringify({ platform: 'web', token: 'https://push.example/1' }),
      JSON.stringify({ platform: 'pager', token: tokens[1], muted: 7, user: 'two words' }),
      'not json',
      '',
    ]
    const ran = await cli('import', 'devices', file('devices.ndjson', lines.join('\n')))
    expect(ran.out).toMatch(/^4 taken, 3 refused\./)
    expect(ran.out).toMatch(/:5 {2}p256dh and auth belong to a browser/)
    // Each fault of a line, and the lines in their order.
    expect(ran.out).toMatch(/:6 {2}platform is “[^”]*” and can be [^;]*; user [^;]*; muted /)
    expect([...ran.out.matchAll(/:(\d+) {2}/g)].map(([, line]) => line)).toEqual(['5', '6', '7'])
    expect(ran.out).toMatch(/:7 {2}is not JSON/)
    const carried = (name: string) => world.backend.call('listDevices', { params, query: { user: name } })
    const [first] = (await carried('carried-0')).items
    expect(first).toMatchObject({ muted: true, permission: 'granted' })
    const phone = await world.standins.registry.make({
      id: 'own',
      app,
      model: 'Skerry',
      platform: 'ios',
      user: 'carried-0',
    })
    phone.state.token = tokens[0]!
    await phone.start()
    expect((await carried('carried-0')).items.map(({ id }) => id)).toContain(first!.id)
    const out = (await cli('export', 'devices', '--format', 'csv')).out
    expect(out.split('\n')[0]).toBe(
      'platform,token,p256dh,auth,user,permission,muted,locale,timeZone,appVersion,systemVersion,model',
    )
    expect(out).toContain(tokens[2])
  })
})

describe('topics', () => {
  test('go out with who joined, and come back', async () => {
    const [status, done] = await post(
      'topics',
      'application/x-ndjson',
      '{"topic":"route-9","title":"The long way"}\n{"topic":"route-9","user":"ada"}\n{"topic":"route-9","user":"nobody"}\n',
    )
    expect([status, done]).toEqual([
      200,
      { taken: 2, refused: 1, faults: [{ line: 3, says: 'user:nobody is not here' }] },
    ])
    const out = (await cli('export', 'topics')).out
    expect(out).toContain('{"topic":"route-9","title":"The long way"}\n{"topic":"route-9","user":"ada"}\n')
  })
})

describe('a file that cannot be read', () => {
  test.each([
    [
      'CSV whose row has too many cells',
      'text/csv',
      'user,a\nada,1,2\n',
      /not CSV from line 2 on: the row has another number/,
    ],
    ['CSV with an open quote', 'text/csv', 'user,a\nada,"1\n', /a quote is never closed/],
    ['a line without end', 'application/x-ndjson', 'x'.repeat(200_000), /a line of more than 65,536 bytes/],
    ['a row without end', 'text/csv', `user\n${'x'.repeat(200_000)}\n`, /a row is too long/],
  ])('%s is refused, and says where', async (_name, type, body, says) => {
    const [status, answer] = await post('users', type, body)
    expect([status, answer.detail]).toEqual([422, expect.stringMatching(says)])
  })

  test('another type, another kind, or somebody who may not', async () => {
    expect((await post('users', 'application/pdf', 'x'))[0]).toBe(415)
    expect((await post('secrets', 'text/csv', 'x'))[0]).toBe(404)
    const made = await world.operator.call('makeKey', {
      params,
      body: { kind: 'backend', environment: 'development', name: 'board', role: 'sender' },
    })
    const answer = await fetch(`${world.url}/v1/apps/${app}/export/devices`, {
      headers: { authorization: `Bearer ${made.key}` },
    })
    expect(answer.status).toBe(403)
  })

  test('a large one goes through in bounded memory', async () => {
    const memory = () =>
      Number(/VmHWM:\s+(\d+) kB/.exec(readFileSync(`/proc/${world.servicePid}/status`, 'utf8'))?.[1]) / 1_024
    const before = memory()
    const count = 60_000
    const rows = Array.from({ length: count }, (_, i) => `bulk-${i},Pier ${i % 5},${i}`)
    const path = file('bulk.csv', `user,homePier,number\n${rows.join('\n')}\n`)
    const ran = await cli('import', 'users', path)
    expect(ran.out).toBe(`${count.toLocaleString('en')} taken, 0 refused.\n`)
    expect(memory() - before).toBeLessThan(150)
  })
})
