import { describe, expect, test } from '@jest/globals'
import { nodeCrypto } from '../src/base/node-crypto.ts'
import { WebPushProtocol } from '../src/gateways/web-push-protocol.ts'
import { guardedLookup, isGuarded, publicOnly } from '../src/net/address-guard.ts'

describe('push addresses from outside', () => {
  const address = (token: string) => ({
    token,
    p256dh: Buffer.from(nodeCrypto.p256KeyPair().publicKey),
    auth: Buffer.alloc(16),
  })
  const lane = () =>
    new WebPushProtocol({
      key: nodeCrypto.p256KeyPair(),
      subject: 'mailto:a@b.example',
      webOrigin: 'https://ferries.example',
      guard: publicOnly,
      inFlight: 300,
      http: { ca: [], timeoutMs: 500 },
    })
  const notification = {
    id: 'x',
    content: { title: 'T' },
    mode: 'show',
    urgency: 'low',
    ttlSeconds: 1,
    expiresAtMs: Date.now() + 1_000,
  } as const

  test.each([
    'https://127.0.0.1:1/push/x',
    'https://[::1]:1/push/x',
    'https://169.254.169.254/latest',
    'https://localhost:1/push/x',
  ])('%s is not called', async (endpoint) => {
    const one = lane()
    const prepared = await one.prepare(notification)
    expect(await prepared.send(address(endpoint))).toEqual({ is: 'refused', reason: 'address-not-allowed' })
    await one.close()
  })

  test.each([
    '::1',
    '::127.0.0.1',
    '::ffff:10.0.0.1',
    '::ffff:0:10.0.0.1',
    '64:ff9b::a00:1',
    '64:ff9b:1::1',
    '2002:7f00:1::',
    '2001:0:1::',
    'fec0::1',
    'fd00::1',
    'fe80::1',
    'ff02::1',
    '192.0.0.8',
    '100.64.0.1',
  ])('%s is in a network that is not everybody’s', (one) => {
    expect(isGuarded(one)).toBe(true)
  })

  test.each(['2606:4700::1', '2001:db8::1', '93.184.216.34', '2a00:1450::1'])('%s is everybody’s', (one) => {
    expect(isGuarded(one)).toBe(false)
  })

  test('a name is judged by what it resolves to', async () => {
    const error = await new Promise((done) => guardedLookup('localhost', {}, (given) => done(given)))
    expect(error).toMatchObject({ code: 'ADDRESS_NOT_ALLOWED' })
  })
})
