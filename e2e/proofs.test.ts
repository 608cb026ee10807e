import { randomUUID } from 'node:crypto'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { Client } from '@zbell/contract/client'
import { SignJWT } from 'jose'
import { refusal } from './harness/refusal.ts'
import { app, params, World } from './harness/world.ts'

let world: World
beforeAll(async () => {
  world = await World.open()
})
afterAll(() => world.close())

const clientOf = (bearer: string) => new Client({ url: world.url, bearer })
/** A phone of its own: it registers and speaks with its secret. */
async function phone(more: { user?: string; proof?: string; token?: string; secret?: string } = {}) {
  const body = { platform: 'ios' as const, token: world.standins.mints.ios.mint(), ...more }
  const { device, secret } = await clientOf(world.appKey).call('registerDevice', { body })
  return { device, secret, self: clientOf(secret) }
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
    expect((await refusal(claim(proof))).detail).toMatch(/another device/)
    // However its signature is written: its last letter has bits that count for nothing.
    const letters = 'ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_'
    const same = proof.slice(0, -1) + letters[letters.indexOf(proof.at(-1)!) ^ 1]
    expect((await refusal(claim(same))).code).toBe('proof-refused')
  })

  test('is not wanted again of a device that shows its secret and names the same user', async () => {
    const token = world.standins.mints.ios.mint()
    const one = await phone({ user: 'ada', proof: await sign({}), token })
    const again = (user: string) => phone({ user, token, secret: one.secret })
    expect((await again('ada')).device).toMatchObject({ id: one.device.id, user: 'ada' })
    expect((await refusal(again('signe'))).code).toBe('proof-refused')
  })

  test('is wanted in production unless somebody says otherwise', async () => {
    const production = clientOf(await world.makeKey(app, 'app', 'production'))
    const body = { platform: 'ios' as const, token: world.standins.mints.ios.mint(), user: 'ada' }
    expect(await refusal(production.call('registerDevice', { body }))).toMatchObject({
      code: 'proof-refused',
      detail: 'This app wants a proof that somebody is ada, in production; none came.',
    })
  })

  test.each<[string, () => Promise<string | undefined>, RegExp]>([
    ['none', async () => undefined, /none came/],
    ['an expired one', () => sign({ seconds: -120 }), /has expired/],
    ['one for somebody else', () => sign({ sub: 'signe' }), /is for signe, not for ada/],
    ['one signed with another key', () => sign({ key: 'zb-proof-of-somebody-else-entirely-0000' }), /another key/],
    [
      'one for the other environment',
      () => sign({ aud: `${app}/production` }),
      /no usable aud: merrow-sound\/development/,
    ],
    ['one for another app', () => sign({ aud: 'far-side/development' }), /no usable aud/],
    ['one that could be any other', () => sign({ jti: '' }), /no usable jti/],
    ['one that lives too long', () => sign({ seconds: 90_000 }), /longer than an hour/],
    ['nonsense', async () => 'nonsense', /not a JWT/],
    [
      'one without a signature',
      async () =>
        `${btoa('{"alg":"none"}').replace(/=+$/, '')}.${btoa('{"sub":"ada","exp":9999999999}').replace(/=+$/, '')}.`,
      /not a JWT signed with HS256/,
    ],
  ])('refuses %s, in words', async (_name, make, says) => {
    const problem = await refusal(claim(await make()))
    expect([problem.code, problem.status]).toEqual(['proof-refused', 403])
    expect(problem.detail).toMatch(says)
  })

  test('another app’s proof does not count here, and a new key ends the one before', async () => {
    await world.makeApp('far-side')
    const far = { params: { app: 'far-side' } }
    const foreign = (await clientOf(await world.makeKey('far-side', 'backend')).call('makeProofKey', far)).key
    expect((await refusal(claim(await sign({ key: foreign })))).detail).toMatch(/another key/)
    const before = await sign({})
    const next = (await world.backend.call('makeProofKey', { params })).key
    expect((await refusal(claim(before))).detail).toMatch(/another key/)
    key = next
    await world.operator.call('rewrapVault', {})
    expect((await claim(await sign({}))).user).toBe('ada')
  })
})
