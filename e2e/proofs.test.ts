import { randomUUID } from 'node:crypto'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { Client } from '@zbell/contract/client'
import { SignJWT } from 'jose'
import { app, params, World } from './harness/world.ts'

let world: World
beforeAll(async () => {
  world = await World.open()
})
afterAll(() => world.close())

const clientOf = (bearer: string) => new Client({ url: world.url, bearer })
/** A phone of its own: it registers and speaks with its secret. */
type More = { user?: string; proof?: string; token?: string; secret?: string; installation?: string; locale?: string }
async function phone(more: More = {}) {
  const body = { platform: 'ios' as const, token: world.standins.mints.ios.mint(), ...more }
  const { device, secret, userRefused } = await clientOf(world.appKey).call('registerDevice', { body })
  return { device, secret, userRefused, self: clientOf(secret) }
}

describe('a proof of who somebody is', () => {
  let key: string
  const sign = (claims: { sub?: string; seconds?: number; key?: string; aud?: string; jti?: string }) => {
    const { sub = 'ada', seconds = 600, key: signedWith = key, aud = `${app}/development`, jti = randomUUID() } = claims
    const token = new SignJWT({ ...(jti && { jti }) })
      .setProtectedHeader({ alg: 'HS256' })
      .setSubject(sub)
      .setAudience(aud)
    return token.setExpirationTime(Math.floor(Date.now() / 1_000) + seconds).sign(Buffer.from(signedWith))
  }
  /** A phone that nobody has says that it is ada’s. */
  const claim = async (proof?: string) =>
    (await phone()).self.call('changeOwnDevice', { body: { user: 'ada', ...(proof ? { proof } : {}) } })

  beforeAll(async () => {
    key = (await world.backend.call('makeProofKey', { params })).key
    await world.backend.call('changeSettings', { params, body: { requireProof: true } })
  })
  afterAll(() => world.backend.call('changeSettings', { params, body: { requireProof: false } }))

  test('lets a device be a user’s, at registration and later, and signing out needs none', async () => {
    const { self, device } = await phone({ user: 'ada', proof: await sign({}) })
    expect(device.user).toBe('ada')
    expect((await self.call('changeOwnDevice', { body: { locale: 'nb' } })).user).toBe('ada')
    expect((await self.call('changeOwnDevice', { body: { user: null } })).user).toBeNull()
    expect((await claim(await sign({}))).user).toBe('ada')
  })

  test('counts for the first device that shows it, again and again, and for no other', async () => {
    const proof = await sign({})
    const first = await phone({ user: 'ada', proof })
    await first.self.call('changeOwnDevice', { body: { user: null } })
    expect((await first.self.call('changeOwnDevice', { body: { user: 'ada', proof } })).user).toBe('ada')
    expect(await claim(proof)).toMatchObject({
      user: null,
      userRefused: { code: 'proof-used', detail: expect.stringMatching(/another device/) },
    })
    // However its signature is written: its last letter has bits that count for nothing.
    const letters = 'ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_'
    const same = proof.slice(0, -1) + letters[letters.indexOf(proof.at(-1)!) ^ 1]
    expect((await claim(same)).userRefused?.code).toBe('proof-used')
  })

  test('is not wanted again of a device that shows its secret and names the same user', async () => {
    const token = world.standins.mints.ios.mint()
    const one = await phone({ user: 'ada', proof: await sign({}), token })
    const again = (user: string) => phone({ user, token, secret: one.secret })
    expect((await again('ada')).device).toMatchObject({ id: one.device.id, user: 'ada' })
    const other = await again('signe')
    expect(other.userRefused?.code).toBe('proof-missing')
    expect(other.device).toMatchObject({ id: one.device.id, user: null })
  })

  test('is wanted in production unless somebody says otherwise', async () => {
    const production = clientOf(await world.makeKey(app, 'app', 'production'))
    const body = { platform: 'ios' as const, token: world.standins.mints.ios.mint(), user: 'ada' }
    expect((await production.call('registerDevice', { body })).userRefused).toEqual({
      code: 'proof-missing',
      detail: 'This app wants a proof that somebody is ada, in production; none came.',
    })
    expect((await production.call('readInstalledApp', {})).requireProof).toBe(true)
  })

  test.each<[string, () => Promise<string | undefined>, string, RegExp]>([
    ['none', async () => undefined, 'proof-missing', /none came/],
    ['an expired one', () => sign({ seconds: -120 }), 'proof-expired', /has expired/],
    ['one for somebody else', () => sign({ sub: 'signe' }), 'proof-other-user', /is for signe, not for ada/],
    [
      'one signed with another key',
      () => sign({ key: 'zb-proof-of-somebody-else-entirely-0000' }),
      'proof-other-key',
      /another key/,
    ],
    [
      'one for the other environment',
      () => sign({ aud: `${app}/production` }),
      'proof-malformed',
      /no usable aud: merrow-sound\/development/,
    ],
    ['one for another app', () => sign({ aud: 'far-side/development' }), 'proof-malformed', /no usable aud/],
    ['one that could be any other', () => sign({ jti: '' }), 'proof-malformed', /no usable jti/],
    ['one that lives too long', () => sign({ seconds: 90_000 }), 'proof-too-long', /longer than an hour/],
    ['nonsense', async () => 'nonsense', 'proof-malformed', /not a JWT/],
    [
      'one without a signature',
      async () =>
        `${btoa('{"alg":"none"}').replace(/=+$/, '')}.${btoa('{"sub":"ada","exp":9999999999}').replace(/=+$/, '')}.`,
      'proof-malformed',
      /not a JWT signed with HS256/,
    ],
  ])('refuses %s, in words, and keeps all else', async (_name, make, code, says) => {
    const proof = await make()
    const { device, userRefused, self } = await phone({ user: 'ada', locale: 'nb', ...(proof ? { proof } : {}) })
    expect(device).toMatchObject({ user: null, locale: 'nb' })
    expect(userRefused).toEqual({ code, detail: expect.stringMatching(says) })
    const body = { user: 'ada', timeZone: 'Europe/Oslo', ...(proof ? { proof } : {}) }
    const changed = await self.call('changeOwnDevice', { body })
    expect(changed).toMatchObject({ user: null, timeZone: 'Europe/Oslo', userRefused: { code } })
  })

  test('of a registration belongs to the device that came of it, not to who names its installation', async () => {
    const [proof, installation] = [await sign({}), randomUUID()]
    const one = await phone({ user: 'ada', proof, installation })
    expect(one.device.user).toBe('ada')
    expect((await one.self.call('changeOwnDevice', { body: { user: null } })).user).toBeNull()
    expect((await one.self.call('changeOwnDevice', { body: { user: 'ada', proof } })).userRefused).toBeNull()
    // A stranger who knows both gets a device of their own, which is nobody’s.
    await world.changeDirectly('update devices set claimed_at = claimed_at - interval 11 second')
    const stranger = await phone({ user: 'ada', proof, installation })
    expect([stranger.device.user, stranger.userRefused?.code]).toEqual([null, 'proof-used'])
    expect((await one.self.call('readOwnDevice', {})).user).toBe('ada')
  })

  test('an imported device whose first claim shows none is nobody’s from then on', async () => {
    const token = world.standins.mints.ios.mint()
    const line = JSON.stringify({ platform: 'ios', token, user: 'ada', permission: 'granted' })
    const imported = await fetch(`${world.url}/v1/apps/${app}/import/devices`, {
      method: 'POST',
      headers: { authorization: `Bearer ${world.backendKey}`, 'content-type': 'application/x-ndjson' },
      body: `${line}\n`,
    })
    expect(imported.status).toBe(200)
    const claimed = await phone({ user: 'ada', token })
    expect([claimed.device.user, claimed.userRefused?.code]).toEqual([null, 'proof-missing'])
  })

  test('refusals are counted by reason, on Health and at Setup, and are no alert', async () => {
    const before = (await world.backend.call('readHealth', { params })).userRefusals
    const countOf = (all: typeof before, code: string) => all.find((one) => one.code === code)?.count ?? 0
    await claim(await sign({ seconds: -120 }))
    const { userRefusals, troubles } = await world.backend.call('readHealth', { params })
    expect(countOf(userRefusals, 'proof-expired')).toBe(countOf(before, 'proof-expired') + 1)
    expect((await world.backend.call('readSetup', { params })).userRefusals).toEqual(userRefusals)
    expect(JSON.stringify(troubles)).not.toContain('proof')
  })

  test('another app’s proof does not count here, and a new key ends the one before', async () => {
    await world.makeApp('far-side')
    const far = { params: { app: 'far-side' } }
    const foreign = (await clientOf(await world.makeKey('far-side', 'backend')).call('makeProofKey', far)).key
    expect((await claim(await sign({ key: foreign }))).userRefused?.code).toBe('proof-other-key')
    const before = await sign({})
    const next = (await world.backend.call('makeProofKey', { params })).key
    expect((await claim(before)).userRefused?.code).toBe('proof-other-key')
    key = next
    await world.operator.call('rewrapVault', {})
    expect((await claim(await sign({}))).user).toBe('ada')
  })
})
