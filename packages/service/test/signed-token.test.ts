import { generateKeyPairSync } from 'node:crypto'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { gatewayProfile } from '@zbell/core'
import { sql } from 'drizzle-orm'
import { importJWK, type JWK, jwtVerify } from 'jose'
import { authorizationFor } from '../src/gateways/authorization.ts'
import { nameOfKey, signedToken } from '../src/gateways/signed-token.ts'
import { tokenSignedAt } from '../src/gateways/store/signed-tokens.ts'
import { anywhere } from '../src/net/address-guard.ts'
import { type ScratchApp, scratchApp } from './scratch-database.ts'

const made = () => {
  const pair = generateKeyPairSync('ec', { namedCurve: 'P-256' })
  return {
    credential: { jwk: pair.privateKey.export({ format: 'jwk' }) as JWK, keyId: 'LAMP', issuer: 'MERROW' },
    publicJwk: pair.publicKey.export({ format: 'jwk' }) as JWK,
  }
}

describe('a signed token', () => {
  test('is one that others verify, whichever key and second', async () => {
    for (let n = 0; n < 40; n++) {
      const { credential, publicJwk } = made()
      const issuedAt = 1_700_000_000 + n * 7_919
      const { payload, protectedHeader } = await jwtVerify(
        signedToken(credential, issuedAt),
        await importJWK(publicJwk, 'ES256'),
        { algorithms: ['ES256'] },
      )
      expect([payload, protectedHeader]).toEqual([
        { iss: 'MERROW', iat: issuedAt },
        { alg: 'ES256', kid: 'LAMP' },
      ])
    }
  })

  test('is the very same for the same key and second, and another for any other', () => {
    const { credential } = made()
    const token = signedToken(credential, 1_700_000_000)
    expect(signedToken({ ...credential, jwk: { ...credential.jwk } }, 1_700_000_000)).toBe(token)
    expect(signedToken(credential, 1_700_000_001)).not.toBe(token)
    expect(nameOfKey(credential).equals(nameOfKey({ ...credential, keyId: 'OTHER' }))).toBe(false)
  })

  test('wants a private key', () => {
    const { credential, publicJwk } = made()
    expect(() => signedToken({ ...credential, jwk: publicJwk }, 1)).toThrow(RangeError)
  })
})

test('while nobody can say that another token is due, the one at hand is used on', async () => {
  const { credential } = made()
  let isAway = true
  const authorization = authorizationFor({
    profile: gatewayProfile.parse({
      profile: 'p',
      platform: 'ios',
      origins: {},
      authentication: { kind: 'signed-token', lifetimeSeconds: 3_600 },
      request: { path: '/', body: '1' },
      limits: { bodyBytes: 1 },
      answers: [{ status: 200, outcome: 'accepted' }],
    }),
    credential: { kind: 'signing-key', ...credential },
    transport: {} as never,
    gatewayOrigin: 'https://gateway.example',
    http: { ca: [], timeoutMs: 1 },
    guard: anywhere,
    signedAt: () => (isAway ? Promise.reject(new Error('the database is away')) : Promise.resolve(1_700_000_000)),
  })!
  await expect(authorization.value.get()).rejects.toThrow('away')
  isAway = false
  const token = await authorization.value.get()
  isAway = true
  expect(await authorization.anew(token)).toBe(token)
})

describe('when the token of a key was signed', () => {
  let app: ScratchApp
  beforeAll(async () => {
    app = await scratchApp()
  })
  afterAll(() => app.scratch.close())
  const name = (text: string) => Buffer.from(text.padEnd(32, '.'))
  const shift = (text: string, seconds: number) =>
    app.database.change(
      sql`update signed_tokens set made_at = made_at + interval ${seconds} second where name = ${name(text)}`,
    )

  test('is the same for all who ask, however many ask at once, until it is too old', async () => {
    const all = await Promise.all(Array.from({ length: 20 }, () => tokenSignedAt(app.database, name('a'), 1_800)))
    expect(new Set(all).size).toBe(1)
    await shift('a', -1_700)
    const before = await tokenSignedAt(app.database, name('a'), 1_800)
    expect(before).toBe(all[0]! - 1_700)
    // Whoever was refused asks for one that is younger.
    expect(await tokenSignedAt(app.database, name('a'), 1_200)).toBeGreaterThanOrEqual(all[0]!)
  })

  test('is now, when it seems to lie ahead: the clock was set back', async () => {
    const first = await tokenSignedAt(app.database, name('b'), 1_800)
    await shift('b', 3_600)
    expect(await tokenSignedAt(app.database, name('b'), 1_800)).toBeLessThan(first + 3_000)
  })
})
