import { generateKeyPairSync } from 'node:crypto'
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { dist, until, zbell } from '../harness/programs.ts'
import { refusal } from '../harness/refusal.ts'
import { app, params, World } from '../harness/world.ts'

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
const base64 = (text: string) => Buffer.from(text).toString('base64')

describe('a key file, as it was downloaded', () => {
  const retire = async () => {
    for (const { id, platform, state } of await world.backend.all('listCredentials', { params }))
      if (platform === 'android' && state !== 'retired')
        await world.backend.call('retireCredential', { params: { ...params, id } })
  }
  const handIn = (content: string, more: object = {}) =>
    world.backend.call('addCredential', {
      params,
      body: { platform: 'android', files: [{ content: base64(content) }], ...more },
    })
  const own = () =>
    JSON.parse(readFileSync(world.standins.keyFile, 'utf8')) as {
      account: { mail: string; project: string }
      key: { number: string; pem: string }
      grants: string
    }

  test('is read as the profile says, works, and its facts are shown', async () => {
    await retire()
    const added = await cli('credential', 'add', world.standins.keyFile, '--platform', 'android')
    expect(added.out).toContain(
      'It is a service-key for android in development, and is in use, with project=merrow-sound.',
    )
    expect((await cli('credential', 'check')).out).toMatch(/service-key for android[\s\S]*It works/)
    expect((await cli('credential', 'list')).out).toContain('signal-key-1 project=merrow-sound')
  })

  test('can be told another fact by hand, which counts at once', async () => {
    const id = (await world.backend.all('listCredentials', { params })).find(
      ({ platform, state }) => platform === 'android' && state === 'in-use',
    )!.id
    expect((await cli('credential', 'facts', id, 'project=others')).out).toContain('with project=others')
    const tried = await world.backend.call('tryGateway', {
      params: { ...params, platform: 'android' },
      body: { send: true },
    })
    expect([tried.request.url.endsWith('/projects/others/signals'), tried.answer?.status]).toEqual([true, 403])
    await cli('credential', 'facts', id, 'project=merrow-sound')
    const again = await world.backend.call('tryGateway', {
      params: { ...params, platform: 'android' },
      body: { send: true },
    })
    expect(again.answer?.outcome).toBe('token-gone')
    expect(
      (
        await refusal(
          world.backend.call('changeCredential', { params: { ...params, id }, body: { facts: { project: 'a\r\nb' } } }),
        )
      ).code,
    ).toBe('invalid-request')
  })

  test('without a profile that says how to read it is asked about, with what looks like it', async () => {
    await retire()
    const { account, key, grants } = own()
    const plain = standin('android')
      .replace(/keyFile:[\s\S]*?request:/, 'request:')
      .replace(/ {2}tokenPath.*\n/, '')
      .replace(/ {2}scope.*\n/, '')
    await world.backend.call('saveGateway', {
      params: { ...params, platform: 'android' },
      body: { profile: plain.replace('https://127.0.0.1:7432', world.standins.android.listener.origin) },
    })
    const file = JSON.stringify({ account, keyNumber: key.number, secret: key.pem, tokenAddress: grants })
    const onTheCommandLine = await cli('credential', 'add', fileOf('account.json', file), '--platform', 'android')
    expect(onTheCommandLine.err).toContain('The file or its name seems to say it: --key-id signal-key-1')
    expect(onTheCommandLine.err).toContain(`--token-address ${grants}`)
    const problem = await refusal(handIn(file))
    expect(problem.errors?.map(({ pointer, code, looksLike }) => [pointer, code, looksLike])).toEqual([
      ['/keyId', 'needed', 'signal-key-1'],
      ['/issuer', 'needed', account.mail],
      ['/scope', 'needed', undefined],
      ['/tokenAddress', 'needed', grants],
      ['/facts/project', 'needed', undefined],
    ])
    const made = await handIn(file, {
      keyId: key.number,
      issuer: account.mail,
      scope: 'harbour:signal',
      tokenAddress: grants,
      facts: { project: 'merrow-sound' },
    })
    await until(
      () => world.backend.call('checkCredential', { params: { ...params, id: made.id } }),
      ({ check }) => check?.verdict === 'works',
    )
    await world.backend.call('dropGateway', { params: { ...params, platform: 'android' } })
  })

  test.each([
    ['cut off', () => JSON.stringify(own()).slice(0, -20), 'not-json'],
    [
      'of a public key',
      () =>
        JSON.stringify({
          key: {
            pem: generateKeyPairSync('rsa', { modulusLength: 2_048 }).publicKey.export({ type: 'spki', format: 'pem' }),
          },
        }),
      'public-key',
    ],
    [
      'with the secret where the name should be',
      () => JSON.stringify({ ...own(), account: { mail: own().key.pem.split('\n')[3], project: 'x' } }),
      'secret-in-place',
    ],
    [
      'with a list where the name should be',
      () => JSON.stringify({ ...own(), account: { mail: ['x'], project: 'x' } }),
      'unreadable-place',
    ],
  ])('that is %s is refused in words, nothing of it is kept, and no secret is said', async (_name, content, code) => {
    await retire()
    const before = (await world.backend.all('listCredentials', { params })).length
    const text = content()
    const problem = await refusal(handIn(text))
    expect(problem.errors?.[0]?.code).toBe(code)
    for (const line of own().key.pem.split('\n').slice(1, -2)) expect(JSON.stringify(problem)).not.toContain(line)
    expect((await world.backend.all('listCredentials', { params })).length).toBe(before)
  })

  test('of ten megabytes is refused by its size', async () => {
    const problem = await refusal(handIn(`{"key":"${'A'.repeat(10_000_000)}"}`))
    expect(['body-too-large', 'invalid-request']).toContain(problem.code)
  })
})
