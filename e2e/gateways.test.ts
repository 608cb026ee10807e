import { generateKeyPairSync, type KeyObject } from 'node:crypto'
import { mkdtempSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { Client } from '@zbell/contract/client'
import { AndroidGateway, serverCertificate, TokenMint } from '@zbell/standins'
import type { JWK } from 'jose'
import { fillDevices } from './harness/fleet.ts'
import { dist, until, zbell } from './harness/programs.ts'
import { refusal } from './harness/refusal.ts'
import { atLength, inScope } from './harness/scope.ts'
import { app, params, World } from './harness/world.ts'

let world: World
let dir: string
beforeAll(async () => {
  world = await World.open()
  dir = mkdtempSync(join(tmpdir(), 'bell-profiles-'))
})
afterAll(async () => {
  await world.close()
  rmSync(dir, { recursive: true })
})

const cli = (...args: string[]) =>
  zbell(args, { ZBELL_URL: world.url, ZBELL_KEY: world.operatorKey, ZBELL_APP: app, ZBELL_ENVIRONMENT: 'development' })
const fileOf = (name: string, text: string): string => {
  writeFileSync(join(dir, name), text)
  return join(dir, name)
}
const standin = (name: 'ios' | 'android') => readFileSync(`${dist}profiles/standin-${name}.yaml`, 'utf8')
const ring = (device: string) => cli('send', '--to', `device:${device}`, '--title', 'Boarding', '--json')
const base64 = (text: string) => Buffer.from(text).toString('base64')

describe('zbell gateway', () => {
  test('goes from an example to a profile in use, and back, in the words of its remarks', async () => {
    const made = await cli('gateway', 'new', '--kind', 'signed-token')
    expect(made.out).toContain('platform: ios')
    const file = fileOf('ios.yaml', made.out)
    expect((await cli('gateway', 'lint', file)).out).toContain('can be used: ios, and asks for a signing-key')
    const tried = await cli('gateway', 'try', 'ios', '--with', file, '--title', 'Hello')
    expect(tried.out).toMatch(/POST https:\/\/gateway.development.example\/devices\/0+/)
    expect(tried.out).toContain('authorization: Bearer ••••')
    const saved = await cli('gateway', 'save', file)
    expect(saved.out).toContain('ios speaks by our-ios, version 1 of the app’s own.')
    expect((await cli('gateway', 'show', 'ios')).out).toBe(made.out)
    fileOf('ios.yaml', made.out.replace('profile: our-ios', 'profile: our-second'))
    expect((await cli('gateway', 'save', file)).out).toContain('version 2 of the app’s own; version 1 waits')
    expect((await cli('gateway', 'versions', 'ios')).out).toMatch(/2 +● in use +our-second[\s\S]*1 +– waiting +our-ios/)
    expect((await cli('gateway', 'use', 'ios', '1')).out).toContain(
      'by our-ios, version 1 of the app’s own; version 2 waits',
    )
    expect((await cli('gateway', 'reset', 'ios')).out).toContain('standin-ios, which the service’s configuration names')
    expect((await cli('gateway', 'show')).out).toMatch(/ios +standin-ios +the configuration’s/)
  })

  test('names each fault as compilers do, and saves nothing', async () => {
    const file = fileOf(
      'bad.yaml',
      standin('ios').replace('path: /ring/{token}', 'path: /a/../{token}').replace('status: 410', 'status: 4100'),
    )
    const refused = await cli('gateway', 'save', file)
    expect(refused.code).not.toBe(0)
    expect(refused.out).toMatch(/bad\.yaml:\d+:\d+ {2}request\.path: may hold no \. or \.\./)
    expect(refused.out).toMatch(/bad\.yaml:\d+:\d+ {2}answers\.1\.status/)
    expect(await cli('gateway', 'new', '--kind', 'magic')).toMatchObject({
      err: expect.stringContaining('There is no kind magic'),
    })
  })

  atLength('pulls what the configuration names, with its origin, and it rings as before', async () => {
    const handset = await world.handset(1, 'ios', { user: 'ada' })
    const device = (await handset.view()).device!
    expect((await cli('gateway', 'pull', 'ios')).out).toContain('by standin-ios, version 3 of the app’s own')
    expect((await cli('gateway', 'show', 'ios')).out).toContain(world.standins.ios.listener.origin)
    expect(JSON.parse((await ring(device)).out)).toMatchObject({ totals: { shown: 1 } })
    expect((await cli('gateway', 'pull', 'ios')).out).toContain('the app’s own already')
    await cli('gateway', 'reset', 'ios')
  })

  test('records what goes out and comes back, grants too, and no secret', async () => {
    const handset = await world.handset(2, 'android', { user: 'signe' })
    const device = (await handset.view()).device!
    const har = join(dir, 'android.har')
    const recording = cli('gateway', 'record', 'android', '--seconds', '60', '--count', '3', '--out', har)
    await until(
      () => world.backend.call('readGatewayRecording', { params: { ...params, platform: 'android' } }),
      ({ until: end }) => end !== null,
    )
    await cli('gateway', 'try', 'android', '--send')
    expect(JSON.parse((await ring(device)).out)).toMatchObject({ totals: { shown: 1 } })
    expect((await recording).out).toMatch(/\d exchanges are in /)
    expect(statSync(har).mode & 0o777).toBe(0o600)
    const { log } = JSON.parse(readFileSync(har, 'utf8')) as {
      log: {
        version: string
        entries: { request: { url: string; postData: { text: string } }; response: { status: number } }[]
      }
    }
    expect(log.version).toBe('1.2')
    const grant = log.entries.find(({ request }) => request.url.endsWith('/grants'))
    expect(grant?.request.postData.text).toMatch(/assertion=(?:••••|%E2)/)
    expect(log.entries.map(({ response }) => response.status)).toEqual(expect.arrayContaining([200, 404]))
    const whole = readFileSync(har, 'utf8')
    expect(whole).not.toMatch(/eyJ|Bearer [A-Za-z0-9_-]{20}|"access_token\\":\\"[A-Za-z0-9]/)
    expect(await world.ask('select count(*) as kept from gateway_exchanges')).toEqual([{ kept: 0 }])
  })
})

describe('the guide, kind by kind', () => {
  const guide = () => readFileSync(new URL('../docs/gateway-profiles.md', import.meta.url), 'utf8')
  const blocks = (after: string) =>
    [...(guide().split(after)[1] ?? '').matchAll(/```yaml\n([\s\S]*?)```/g)].map(([, text]) => text ?? '')
  const control = (path: string, body: string) =>
    fetch(`${world.standins.control.url}${path}`, {
      method: 'POST',
      headers: { authorization: `Bearer ${world.standins.account.controlKey}` },
      body,
    }).then((answer) => answer.text())
  const tryIt = async (platform: string) => {
    const { out } = await cli('gateway', 'try', platform, '--title', 'Boarding is open', '--send', '--json')
    return (JSON.parse(out) as { answer: { outcome: string } }).answer.outcome
  }

  atLength('a grant: the blocks of the guide put together are a profile that rings', async () => {
    const parts = blocks('step by step').slice(0, 3)
    const top = `profile: by-the-guide\nplatform: android\norigins: { development: ${world.standins.android.listener.origin} }\n`
    const saved = await cli('gateway', 'save', fileOf('guide-android.yaml', top + parts.join('')))
    expect(saved.out).toContain('by-the-guide')
    for (const { id, platform } of await world.backend.all('listCredentials', { params }))
      if (platform === 'android') await world.backend.call('retireCredential', { params: { ...params, id } })
    await cli('credential', 'add', world.standins.keyFile, '--platform', 'android')
    expect(await tryIt('android')).toBe('token-gone')
    const handset = await world.handset(20, 'android', { user: 'ola' })
    const rung = await cli(
      'send',
      '--to',
      `device:${(await handset.view()).device}`,
      '--title',
      'T',
      '--data',
      '{"n":5}',
      '--json',
    )
    expect(JSON.parse(rung.out)).toMatchObject({ totals: { shown: 1 } })
    await cli('gateway', 'reset', 'android')
  })

  atLength('a client certificate: requested here, signed there, added, taken by the gateway', async () => {
    const requested = await cli('credential', 'request', '--platform', 'ios', '--for', 'Merrow Sound Ferries')
    const signed = await control('/accounts/ios/certificates', requested.out)
    const profile = standin('ios')
      .replace('https://127.0.0.1:7431', world.standins.ios.listener.origin)
      .replace(/kind: signed-token[\s\S]*?request:/, 'kind: client-certificate\nrequest:')
    expect((await cli('gateway', 'save', fileOf('certificate.yaml', profile))).out).toContain(
      'ios speaks by standin-ios',
    )
    const added = await cli('credential', 'add', fileOf('ferries.pem', signed), '--platform', 'ios', '--use')
    expect(added.out).toContain('It is a client-certificate for ios in development, and is in use')
    expect(await tryIt('ios')).toBe('token-gone')
    const handset = await world.handset(21, 'ios', { user: 'ola' })
    expect(JSON.parse((await ring((await handset.view()).device!)).out)).toMatchObject({ totals: { shown: 1 } })
    expect(await control('/accounts/ios/certificates', 'no request')).toContain('no request for a certificate')
    // Back to the key that it had: by a signed token, as in the guide.
    await cli('gateway', 'reset', 'ios')
    const { jwk, keyId, issuer } = world.standins.account.ios
    for (const { id, platform } of await world.backend.all('listCredentials', { params }))
      if (platform === 'ios') await world.backend.call('retireCredential', { params: { ...params, id } })
    const key = fileOf('key.jwk', JSON.stringify(jwk))
    await cli('credential', 'add', key, '--platform', 'ios', '--key-id', keyId, '--issuer', issuer)
    expect(await tryIt('ios')).toBe('token-gone')
  })
})

describe('a gateway over HTTP', () => {
  // The operator may let a credential go anywhere.
  const save = (profile: string, more: object = {}, client: Client = world.operator) =>
    client.call('saveGateway', {
      params: { ...params, platform: 'ios' },
      query: { environment: 'development' },
      body: { profile, ...more },
    })

  test('says where a profile is at fault, line by line, and keeps nothing of it', async () => {
    const problem = await refusal(save(standin('ios').replace('kind: signed-token', 'kind: sealed-letter')))
    expect(problem).toMatchObject({ code: 'profile-refused', errors: [{ pointer: '/profile', line: 8, column: 9 }] })
    const own = await world.backend.call('readGateway', { params: { ...params, platform: 'ios' } })
    expect([own.version, own.profile]).toEqual([null, 'standin-ios'])
  })

  test.each([
    ['another platform', () => standin('android'), /not for ios/],
    ['a file of the service', () => `${standin('ios')}caFile: /etc/passwd\n`, /put the certificates under ca/],
    ['more than 64,000 characters', () => 'x'.repeat(64_001), /64,000/],
  ])('refuses %s in words', async (_name, text, says) => {
    const problem = await refusal(save(text()))
    expect(`${problem.detail} ${problem.errors?.[0]?.detail}`).toMatch(says)
  })

  test('is the owners’ to change: whoever only sends looks', async () => {
    const key = await world.operator.call('makeKey', {
      params,
      body: { kind: 'backend', environment: 'development', name: 'only sends', role: 'sender' },
    })
    const sender = new Client({ url: world.url, bearer: key.key })
    for (const call of [
      () => save(standin('ios'), {}, sender),
      () => sender.call('readGateway', { params: { ...params, platform: 'ios' } }),
      () => sender.call('dropGateway', { params: { ...params, platform: 'ios' } }),
      () => sender.call('startGatewayRecording', { params: { ...params, platform: 'ios' }, body: {} }),
    ])
      expect((await refusal(call())).code).toBe('not-allowed')
    expect((await sender.call('listGateways', { params })).items).toHaveLength(3)
  })

  test('knows no gateway of the web with a profile, none of another name, and no version that is gone', async () => {
    const at = (platform: string) => ({ ...params, platform })
    expect((await refusal(world.backend.call('saveGateway', { params: at('web'), body: { profile: 'x' } }))).code).toBe(
      'unknown-gateway',
    )
    expect((await refusal(world.backend.call('readGateway', { params: at('pigeon') }))).code).toBe('unknown-gateway')
    const version = { ...at('ios'), version: '999' }
    expect((await refusal(world.backend.call('useGatewayVersion', { params: version }))).code).toBe(
      'unknown-gateway-version',
    )
    expect(
      (await refusal(world.backend.call('readGatewayVersion', { params: { ...version, version: '1e3' } }))).code,
    ).toBe('unknown-gateway-version')
  })

  test('shows no token that stands in a header of another name', async () => {
    const profile = standin('ios')
      .replace('https://127.0.0.1:7431', world.standins.ios.listener.origin)
      .replace('scheme: Badge', 'scheme: Badge\n  header: harbour-badge')
    const tried = await world.backend.call('tryGateway', {
      params: { ...params, platform: 'ios' },
      body: { profile, send: true },
    })
    expect(tried.request.headers['harbour-badge']).toBe('Badge ••••')
    expect(JSON.stringify(tried)).not.toMatch(/eyJ/)
  })

  test('with a second origin rings through it at once, when nobody is at the first', async () => {
    const handset = await world.handset(5, 'ios', { user: 'ola' })
    const { origin } = world.standins.ios.listener
    await save(standin('ios').replace('https://127.0.0.1:7431', `[https://127.0.0.1:1, ${origin}]`))
    const rung = await ring((await handset.view()).device!)
    expect(JSON.parse(rung.out)).toMatchObject({ totals: { shown: 1 } })
    await world.backend.call('dropGateway', { params: { ...params, platform: 'ios' } })
  })

  test('that makes no request holds up its own deliveries only, until the profile is mended', async () => {
    const handset = await world.handset(3, 'ios', { user: 'haru' })
    const device = (await handset.view()).device!
    const origin = world.standins.ios.listener.origin
    const good = standin('ios').replace('https://127.0.0.1:7431', origin)
    await save(good.replace('"harbour-app": identifier,', '"host": identifier,'))
    const id = await world.send({ to: { any: [`device:${device}`] }, content: { title: 'Boarding' } })
    const delivery = () =>
      world.backend.call('listDeliveries', { params: { ...params, id } }).then(({ items }) => items[0])
    const waiting = await until(delivery, (one) => one?.waits?.reason === 'profile-at-fault')
    expect(waiting?.waits?.detail).toMatch(/gateway profile/)
    const other = await world.handset(4, 'android', { user: 'nour' })
    expect(JSON.parse((await ring((await other.view()).device!)).out)).toMatchObject({ totals: { shown: 1 } })
    await save(good)
    await until(delivery, (one) => one?.state === 'shown')
    await world.backend.call('dropGateway', { params: { ...params, platform: 'ios' } })
  })
})

const whole = { sound: 20_000, isles: 2_000 }
const fleets = inScope({ default: { sound: 3_000, isles: 300 }, all: whole, long: whole })

atLength('two apps with two accounts of one platform ring each their own, while both change over', async () => {
  const certificate = serverCertificate(join(world.data, 'standins', 'certificates'))
  const heard = new Map<string, number>()
  const ways = new Set<string>()
  const account = (project: string) => {
    const pair = generateKeyPairSync('rsa', { modulusLength: 2_048 })
    const key = {
      kid: `key-${project}`,
      issuer: `${project}@islands.example`,
      jwk: pair.publicKey.export({ format: 'jwk' }) as JWK,
    }
    return { account: { key, project, mint: new TokenMint(project) }, privateKey: pair.privateKey }
  }
  const [sound, isles, soundAgain] = [account('sound'), account('isles'), account('sound')]
  // The first account's second key, for the same devices.
  const second = {
    ...soundAgain.account,
    mint: sound.account.mint,
    key: { ...soundAgain.account.key, kid: 'key-again' },
  }
  const gateway = await new AndroidGateway(sound.account, (token, arriving) => {
    heard.set(token, (heard.get(token) ?? 0) + 1)
    ways.add(arriving.body ?? '')
  }).listen(certificate, 0)
  gateway.learn(isles.account)
  gateway.learn(second)
  const profile = (way: string) =>
    standin('android')
      .replace('https://127.0.0.1:7432', gateway.listener.origin)
      .replace('"text": mode = "show" ? content.body', `"text": "${way}"`)
      .replace(/ {2}tokenAddress.*\n/, '')
  const keyFile = (given: { account: { key: { kid: string; issuer: string }; project: string } }, key: KeyObject) =>
    JSON.stringify({
      account: { mail: given.account.key.issuer, project: given.account.project },
      key: { number: given.account.key.kid, pem: key.export({ type: 'pkcs8', format: 'pem' }) },
    })

  const furnish = async (slug: string) => {
    await world.makeApp(slug)
    return {
      params: { app: slug },
      client: new Client({ url: world.url, bearer: await world.makeKey(slug, 'backend') }),
    }
  }
  const [one, two] = [await furnish('sound'), await furnish('isles')]
  const put = ({ params: of, client }: typeof one, way: string) =>
    client.call('saveGateway', { params: { ...of, platform: 'android' }, body: { profile: profile(way) } })
  const add = ({ params: of, client }: typeof one, file: string) =>
    client.call('addCredential', { params: of, body: { platform: 'android', files: [{ content: base64(file) }] } })
  await Promise.all([put(one, 'first way'), put(two, 'their way')])
  const firstKey = await add(one, keyFile(sound, sound.privateKey))
  await add(two, keyFile(isles, isles.privateKey))
  const secondKey = await add(one, keyFile({ account: second }, soundAgain.privateKey))
  const noOf = async (slug: string) =>
    ((await world.ask(`select no from apps where slug = '${slug}'`)) as { no: number }[])[0]!.no
  const tokens = {
    sound: Array.from({ length: fleets.sound }, () => sound.account.mint.mint()),
    isles: Array.from({ length: fleets.isles }, () => isles.account.mint.mint()),
  }
  await fillDevices(world.databaseUrl, tokens.sound, { appNo: await noOf('sound'), platform: 'android' })
  await fillDevices(world.databaseUrl, tokens.isles, { appNo: await noOf('isles'), platform: 'android' })

  const everyone = (client: Client, of: { app: string }) =>
    client.call('sendNotification', {
      params: of,
      body: { to: { any: ['everyone'] }, content: { title: 'Storm tonight' } },
    })
  const [first, other] = await Promise.all([everyone(one.client, one.params), everyone(two.client, two.params)])
  const has = (count: number) =>
    until(
      async () => heard.size,
      (size) => size >= count,
    )
  await has(fleets.isles)
  await one.client.call('useCredential', { params: { ...one.params, id: secondKey.id } })
  await has(fleets.sound / 4)
  await put(one, 'second way')
  await has(fleets.sound / 2)
  await one.client.call('useCredential', { params: { ...one.params, id: firstKey.id } })
  await put(one, 'third way')

  const ended = ({ client, params: of }: typeof one, id: string) =>
    until(
      () => client.call('readNotification', { params: { ...of, id } }),
      ({ state }) => state === 'finished',
    )
  expect((await ended(one, first.id)).totals).toMatchObject({
    expanded: fleets.sound,
    accepted: fleets.sound,
    refused: 0,
  })
  expect((await ended(two, other.id)).totals).toMatchObject({
    expanded: fleets.isles,
    accepted: fleets.isles,
    refused: 0,
  })
  // Each its own, each once: none is lost, doubled or mixed.
  expect(heard.size).toBe(fleets.sound + fleets.isles)
  expect([...heard.values()].every((times) => times === 1)).toBe(true)
  expect([...tokens.sound, ...tokens.isles].every((token) => heard.has(token))).toBe(true)
  expect([...ways].sort()).toEqual(['first way', 'second way', 'their way', 'third way'])
  expect(gateway.books.refused).toBe(0)
  await gateway.listener.close()
})
