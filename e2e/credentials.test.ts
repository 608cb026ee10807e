import { execFileSync } from 'node:child_process'
import { generateKeyPairSync } from 'node:crypto'
import { mkdirSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Credential } from '@zbell/contract'
import { fillDevices } from './harness/fleet.ts'
import { dist, until, zbell } from './harness/programs.ts'
import { refusal } from './harness/refusal.ts'
import { atLength, inScope } from './harness/scope.ts'
import { app, params, World } from './harness/world.ts'

let world: World
let dir: string
const openssl = (...args: string[]) => execFileSync('openssl', args, { cwd: dir, stdio: 'pipe' })
const asFile = (name: string) => ({ name, content: readFileSync(join(dir, name)).toString('base64') })
const list = async (): Promise<Credential[]> => (await world.backend.call('listCredentials', { params })).items
const inUse = async (platform: string) =>
  (await list()).find((one) => one.platform === platform && one.state === 'in-use')
const cli = (...args: string[]) => zbell(args, { ZBELL_URL: world.url, ZBELL_KEY: world.backendKey, ZBELL_APP: app })
/** Secrets that are planted, to be looked for afterwards wherever they must not be. */
const marked = { passphrase: 'marked-passphrase-4711', keys: [] as string[] }

beforeAll(async () => {
  world = await World.open({ ZB_LOG_LEVEL: 'trace' }, { ownDatabase: true })
  dir = join(world.data, 'keys')
  mkdirSync(dir)
  openssl(
    'req',
    '-x509',
    '-newkey',
    'rsa:2048',
    '-nodes',
    '-keyout',
    'ca.key',
    '-out',
    'ca.pem',
    '-days',
    '30',
    '-subj',
    '/CN=Harbour authority',
  )
  openssl(
    'req',
    '-newkey',
    'rsa:2048',
    '-nodes',
    '-keyout',
    'own.key',
    '-out',
    'own.csr',
    '-subj',
    '/CN=example.ferries',
  )
  openssl(
    'x509',
    '-req',
    '-in',
    'own.csr',
    '-CA',
    'ca.pem',
    '-CAkey',
    'ca.key',
    '-CAcreateserial',
    '-days',
    '20',
    '-out',
    'own.pem',
  )
  openssl('ecparam', '-name', 'prime256v1', '-genkey', '-noout', '-out', 'other.key')
  openssl('pkcs8', '-topk8', '-in', 'other.key', '-out', 'other-encrypted.key', '-passout', `pass:${marked.passphrase}`)
  const lines = readFileSync(join(dir, 'other.key'), 'utf8').split('\n')
  marked.keys = [
    lines[1]!,
    readFileSync(join(dir, 'own.key'), 'utf8').split('\n')[5]!,
    String(world.standins.account.ios.jwk.d),
  ]
  writeFileSync(join(dir, 'passphrase'), `${marked.passphrase}\n`)
})
afterAll(() => world.close())

describe('handing in', () => {
  test('says at once what it is, and whose, and shows no secret', async () => {
    const ios = await inUse('ios')
    expect(ios).toMatchObject({
      kind: 'signing-key',
      keyId: 'QUAY7LAMP2',
      issuer: 'MERROW-SOUND',
      addedBy: 'operator',
      rejectedAt: null,
    })
    expect(ios?.fingerprint).toMatch(/^[\w-]{43}$/)
  })

  test('asks for what is missing, beside its field', async () => {
    const body = { platform: 'ios' as const, files: [asFile('other.key')] }
    const problem = await refusal(world.backend.call('addCredential', { params, body }))
    expect(problem.errors).toEqual([
      { pointer: '/keyId', detail: 'is needed for a signing-key', code: 'needed' },
      { pointer: '/issuer', detail: 'is needed for a signing-key', code: 'needed' },
    ])
  })

  test.each([
    ['a kind that this gateway does not take', () => ({ files: [asFile('own.pem'), asFile('own.key')] }), 'wrong-kind'],
    ['a wrong passphrase', () => ({ files: [asFile('other-encrypted.key')], passphrase: 'guess' }), 'wrong-passphrase'],
    ['a certificate that no request was made for', () => ({ files: [asFile('own.pem')] }), 'certificate-alone'],
    [
      'the one that is here already',
      () => ({
        files: [{ content: Buffer.from(JSON.stringify(world.standins.account.ios.jwk)).toString('base64') }],
        keyId: 'A',
        issuer: 'B',
      }),
      'known',
    ],
  ])('refuses %s and keeps nothing of it', async (_name, given, code) => {
    const before = await list()
    const problem = await refusal(
      world.backend.call('addCredential', { params, body: { platform: 'ios', ...given() } as never }),
    )
    expect(problem).toMatchObject({ code: 'credential-refused', status: 422, errors: [{ code }] })
    expect(await list()).toEqual(before)
  })

  test('goes to no gateway that it was not added for, unless the operator says so, or it is added again', async () => {
    const platform = { ...params, platform: 'ios' }
    const elsewhere = readFileSync(`${dist}profiles/standin-ios.yaml`, 'utf8').replace(
      'https://127.0.0.1:7431',
      'https://elsewhere.merrow-sound.example',
    )
    const save = (more: object) =>
      world.backend.call('saveGateway', { params: platform, body: { profile: elsewhere, ...more } })
    const trial = { profile: elsewhere, send: true }
    const isRefused = async () => {
      expect(await refusal(save({}))).toMatchObject({
        code: 'profile-refused',
        detail: expect.stringContaining('was not added for https://elsewhere.merrow-sound.example'),
      })
      expect(await refusal(world.backend.call('tryGateway', { params: platform, body: trial }))).toMatchObject({
        code: 'gateway-not-ready',
        detail: expect.stringContaining('an origin that the credential in use was not added for'),
      })
    }
    await isRefused()
    // One that an earlier version stored goes where the profile in use leads.
    await world.changeDirectly('update credentials set origins = null')
    await isRefused()
    // Its owner has it, and says so by handing it in again.
    const { waiting } = await save({ use: false })
    expect(waiting).not.toBeNull()
    const version = { ...platform, version: String(waiting) }
    expect((await refusal(world.backend.call('useGatewayVersion', { params: version }))).code).toBe('profile-refused')
    const again = await world.addCredential({ platform: 'ios', ...world.standins.account.ios })
    expect(again).toMatchObject({ state: 'in-use', origins: ['https://elsewhere.merrow-sound.example'] })
    await world.backend.call('useGatewayVersion', { params: version })
    const { platforms } = await world.backend.call('readSetup', { params })
    expect(platforms.find((one) => one.platform === 'ios')?.steps.slice(1, 3)).toMatchObject([
      { step: 'profile', state: 'done', detail: expect.stringContaining('elsewhere.merrow-sound.example') },
      { step: 'credential', state: 'done' },
    ])
    await world.backend.call('dropGateway', { params: platform })
  })

  test('a viewer or a sender may not, nor the key of another environment', async () => {
    const production = await world.makeKey(app, 'backend', 'production')
    const answer = await fetch(`${world.url}/v1/apps/${app}/credentials?environment=development`, {
      headers: { authorization: `Bearer ${production}` },
    })
    expect(answer.status).toBe(403)
    const own = await fetch(`${world.url}/v1/apps/${app}/credentials`, {
      headers: { authorization: `Bearer ${production}` },
    })
    expect(await own.json()).toEqual({ items: [], next: null })
  })

  test('a web key pair is made here with one call', async () => {
    const made = await world.backend.call('makeCredential', {
      params,
      body: { platform: 'web', subject: 'mailto:bell@merrow-sound.example' },
    })
    expect(made).toMatchObject({ kind: 'vapid-key', state: 'waiting', addedBy: 'key:backend' })
    await world.backend.call('retireCredential', { params: { app, id: made.id } })
  })
})

describe('zbell credential', () => {
  test('adds a file with its passphrase from another, lists, changes over and back', async () => {
    const first = (await inUse('ios'))!
    const added = await cli(
      'credential',
      'add',
      join(dir, 'other-encrypted.key'),
      '--platform',
      'ios',
      '--key-id',
      'NEW1',
      '--issuer',
      'MERROW-SOUND',
      '--passphrase-file',
      join(dir, 'passphrase'),
    )
    expect(added).toMatchObject({ code: 0, err: '' })
    expect(added.out).toMatch(/It is a signing-key for ios in development, and waits/)
    const second = (await list()).find((one) => one.keyId === 'NEW1')!
    expect(await cli('credential', 'use', second.id)).toMatchObject({ code: 0 })
    expect(await inUse('ios')).toMatchObject({ id: second.id })
    expect((await list()).find((one) => one.id === first.id)).toMatchObject({ state: 'waiting' })
    expect(await cli('credential', 'use', first.id)).toMatchObject({ code: 0 })
    expect(await inUse('ios')).toMatchObject({ id: first.id })
    const listed = await cli('credential', 'list')
    expect(listed.out).toMatch(/in-use +signing-key +ios/)
    // A third would retire the one that waits: that is asked first, and the key's id in a file's name is offered.
    const file = join(dir, 'Quay_LANTERN5X2.pem')
    writeFileSync(
      file,
      generateKeyPairSync('ec', { namedCurve: 'P-256' }).privateKey.export({ type: 'pkcs8', format: 'pem' }),
    )
    const words = ['credential', 'add', file, '--platform', 'ios', '--issuer', 'MERROW-SOUND']
    expect((await cli(...words)).err).toContain('--key-id LANTERN5X2\n')
    const third = await cli(...words, '--key-id', 'LANTERN5X2')
    expect(third).toMatchObject({ code: 6, err: expect.stringContaining(`--retire ${second.id}\n`) })
    expect(await list()).toEqual(expect.not.arrayContaining([expect.objectContaining({ keyId: 'LANTERN5X2' })]))
    expect(await cli(...words, '--key-id', 'LANTERN5X2', '--retire', second.id)).toMatchObject({ code: 0 })
    const now = new Map((await list()).map(({ keyId, state }) => [keyId, state]))
    expect([now.get('NEW1'), now.get('LANTERN5X2')]).toEqual(['retired', 'waiting'])
    expect(await cli('credential', 'use', second.id)).toMatchObject({ code: 6 })
    const waiting = (await list()).find(({ state }) => state === 'waiting')!
    expect((await cli('credential', 'retire', waiting.id)).out).toContain('retired')
    const again = await cli('credential', 'add', join(dir, 'own.csr'), '--platform', 'ios')
    expect(again.code).toBe(6)
    expect(again.err).toBe(
      'zbell: This is a request for a certificate, not the certificate; upload it at the platform, and add the certificate that comes back.\n',
    )
    expect(await cli('credential', 'add', 'nowhere.pem', '--platform', 'ios')).toMatchObject({
      code: 2,
      err: expect.stringContaining('nowhere.pem cannot be read'),
    })
  })
})

describe('changing over in the middle of a broadcast to thousands', () => {
  atLength('and back again, loses nothing and doubles nothing', async () => {
    const fleet = inScope({ default: 4_000, all: 20_000, long: 20_000 })
    const { ios, mints } = world.standins
    await fillDevices(
      world.databaseUrl,
      Array.from({ length: fleet }, () => mints.ios.mint()),
    )
    const [{ count: all }] = (await world.ask('select count(*) as count from devices where app_no = 1')) as [
      { count: number },
    ]
    const next = generateKeyPairSync('ec', { namedCurve: 'P-256' })
    const [keyId, issuer] = ['QUAY7LAMP3', 'MERROW-SOUND']
    ios.learn({ kid: keyId, issuer, jwk: next.publicKey.export({ format: 'jwk' }) as never })
    const first = (await inUse('ios'))!
    const second = await world.addCredential({
      platform: 'ios',
      jwk: next.privateKey.export({ format: 'jwk' }),
      keyId,
      issuer,
    })
    expect(second.state).toBe('waiting')
    const before = ios.books.taken
    const id = await world.send({ to: { any: ['everyone'] }, content: { title: 'Under way' } })
    for (const [part, to] of [
      [0.1, second.id],
      [0.4, first.id],
      [0.7, second.id],
    ] as const) {
      await until(
        () => ios.books.taken - before,
        (count) => count > fleet * part,
      )
      await world.backend.call('useCredential', { params: { app, id: to } })
    }
    const { totals } = await until(
      () => world.notification(id),
      ({ state }) => state === 'finished',
    )
    expect([totals.expanded, totals.accepted + totals.received + totals.shown]).toEqual([all, all])
    expect(ios.books.taken - before).toBe(all)
    expect((await inUse('ios'))?.id).toBe(second.id)
    // Both spoke to the gateway in this broadcast.
    const used = (await list()).filter((one) => [first.id, second.id].includes(one.id)).map((one) => one.usedAt)
    for (const at of used) expect(Date.now() - Date.parse(at ?? '')).toBeLessThan(60_000)
    await world.backend.call('useCredential', { params: { app, id: first.id } })
    await world.changeDirectly('delete from devices where user_no is null')
  })
})

test('all secrets go under a new master key while the service runs, and everything still rings', async () => {
  const file = join(world.data, 'service/master.key')
  const before = readFileSync(file, 'utf8')
  const env = { ZBELL_URL: world.url, ZBELL_KEY: readFileSync(join(world.data, 'service/operator.key'), 'utf8').trim() }
  const done = await zbell(['vault', 'rewrap'], env)
  expect(done).toMatchObject({ code: 0, err: '' })
  expect(Number(/^\d+/.exec(done.out)?.[0])).toBeGreaterThan(4)
  const after = readFileSync(file, 'utf8')
  expect(after.trim().split('\n')).toHaveLength(1)
  expect(after).not.toBe(before)
  expect(statSync(file).mode & 0o777).toBe(0o600)
  await world.killService()
  await world.startService()
  await world.handset(7, 'android', { user: 'after' })
  const id = await world.send({ to: { any: ['user:after'] }, content: { title: 'Under a new key' } })
  await until(
    () => world.notification(id),
    ({ totals }) => totals.shown === 1,
  )
  expect((await zbell(['vault', 'rewrap'], { ...env, ZBELL_KEY: world.backendKey })).code).toBe(4)
})

test('no secret is in any answer, page, event stream, log, or file of the database', async () => {
  // Whoever has a calendar’s address reads it, so it is a secret as well.
  const { url } = await world.backend.call('makeFeed', { params })
  expect((await fetch(url)).status).toBe(200)
  const secrets = [marked.passphrase, ...marked.keys, url.slice(url.lastIndexOf('/') + 1)]
  const pages = await pageSources()
  expect(pages.length).toBeGreaterThan(2)
  const told = await heardOnStreams()
  expect(told).toContain('event: notification')
  const answers = [
    JSON.stringify(await list()),
    JSON.stringify(await world.backend.call('readSetup', { params })),
    JSON.stringify(await world.backend.call('readFeed', { params })),
    JSON.stringify(await world.backend.call('listGateways', { params })),
    JSON.stringify(await world.operator.call('listKeys', { params })),
    JSON.stringify(await world.backend.call('tryGateway', { params: { app, platform: 'ios' }, body: {} })),
    (await zbell(['config', '--json'], { ZB_MASTER_KEY: marked.passphrase, ZB_HANDSETS_KEY: marked.passphrase })).out,
    told,
    ...pages,
  ]
  answers.push(await world.metrics())
  for (const path of ['/metrics', '/openapi.json', '/gateway-profile.schema.json', '/livez', '/readyz', '/v1/nowhere'])
    answers.push(await (await fetch(world.url + path)).text())
  const ps = execFileSync('ps', ['-eo', 'args'], { encoding: 'utf8' })
  for (const secret of secrets) {
    for (const [i, text] of [...answers, world.log, ps].entries())
      expect([i, text.includes(secret)]).toEqual([i, false])
  }
  const files = (at: string): string[] =>
    readdirSync(at, { withFileTypes: true }).flatMap((one) =>
      one.isDirectory() ? files(join(at, one.name)) : [join(at, one.name)],
    )
  const raw = files(join(world.data, 'database')).filter((name) => statSync(name).isFile())
  expect(raw.length).toBeGreaterThan(20)
  for (const name of raw) {
    const bytes = readFileSync(name)
    for (const secret of secrets) expect([name, bytes.includes(secret)]).toEqual([name, false])
  }
})

/** The console's page and everything that it loads. */
async function pageSources(): Promise<string[]> {
  const page = await (await fetch(`${world.url}/credentials`, { headers: { accept: 'text/html' } })).text()
  const parts = [...page.matchAll(/(?:src|href)="(\/[^"]+)"/g)].map(([, path]) => path)
  return [page, ...(await Promise.all(parts.map(async (path) => (await fetch(world.url + path)).text())))]
}

/** What both kinds of event streams tell while something is sent and a credential is changed. */
async function heardOnStreams(): Promise<string> {
  const heard: string[] = []
  const stop = new AbortController()
  const listen = async (stream: ReadableStream<Uint8Array>) => {
    const decoder = new TextDecoder()
    const reader = stream.getReader()
    for (let part = await reader.read(); !part.done; part = await reader.read()) heard.push(decoder.decode(part.value))
  }
  const { signal } = stop
  const ended = listen(await world.backend.stream('watchApp', { params, signal })).catch(() => undefined)
  const id = await world.send({ to: { any: ['user:after'] }, content: { title: 'Heard' } })
  const ended2 = listen(await world.backend.stream('watchNotification', { params: { app, id }, signal })).catch(
    () => undefined,
  )
  await world.backend.call('checkCredential', { params: { app, id: (await inUse('ios'))!.id } })
  await until(
    () => heard.join(''),
    (text) => text.includes('event: notification') && text.includes('event: delivery'),
  )
  stop.abort()
  await Promise.all([ended, ended2])
  return heard.join('')
}
