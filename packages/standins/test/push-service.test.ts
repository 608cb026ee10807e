import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { connect } from 'node:http2'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll, beforeEach, describe, expect, test } from '@jest/globals'
import { toBase64url, vapidAuthorization } from '@zbell/core'
import { nodeCrypto } from '@zbell/service/crypto'
import { faultProfile, PushService, serverCertificate } from '../src/index.ts'

let dir: string
let push: PushService
let ca: string
beforeAll(async () => {
  dir = mkdtempSync(join(tmpdir(), 'push-'))
  const certificate = serverCertificate(dir)
  ca = readFileSync(certificate.caFile, 'utf8')
  push = await new PushService().listen(certificate, 0)
})
afterAll(async () => {
  await push.listener.close()
  rmSync(dir, { recursive: true })
})
beforeEach(() => {
  push.faultProfile = faultProfile.parse({})
})

const key = nodeCrypto.p256KeyPair()
const inAnHour = () => Math.floor(Date.now() / 1_000) + 3_600
const authorization = (given: { audience?: string; expires?: number; pair?: typeof key } = {}) =>
  vapidAuthorization(
    given.audience ?? push.listener.origin,
    'mailto:a@b.example',
    given.expires ?? inAnHour(),
    given.pair ?? key,
    nodeCrypto,
  )

async function send(endpoint: string, headers: Record<string, string>, body = 'ciphertext') {
  const session = connect(push.listener.origin, { ca })
  try {
    return await new Promise<{ status: number; headers: Record<string, unknown> }>((done, fail) => {
      const stream = session.request({ ':method': 'POST', ':path': new URL(endpoint).pathname, ...headers })
      stream.on('error', fail)
      stream.on('response', (head) => {
        stream.resume()
        done({ status: Number(head[':status']), headers: head })
      })
      stream.end(body)
    })
  } finally {
    session.close()
  }
}

const good = () => ({ ttl: '60', 'content-encoding': 'aes128gcm', authorization: authorization() })

describe('the push service', () => {
  test('takes a message and hands it to the browser that listens', async () => {
    const { id, endpoint } = push.subscribe(toBase64url(key.publicKey))
    const heard: string[] = []
    push.attach(id, (body) => heard.push(body.toString()))
    const { status, headers } = await send(endpoint, good())
    expect([status, headers.ttl]).toEqual([201, '60'])
    expect(heard).toEqual(['ciphertext'])
  })

  test('keeps messages for a browser that is away, the newest of each topic', async () => {
    const { id, endpoint } = push.subscribe()
    await send(endpoint, { ...good(), topic: 'a' }, 'old')
    await send(endpoint, { ...good(), topic: 'a' }, 'new')
    await send(endpoint, good(), 'other')
    await send(endpoint, { ...good(), ttl: '0' }, 'gone at once')
    await new Promise((done) => setTimeout(done, 5))
    const heard: string[] = []
    push.attach(id, (body) => heard.push(body.toString()))
    expect(heard).toEqual(['new', 'other'])
  })

  test.each([
    ['another key than the subscription’s', () => authorization({ pair: nodeCrypto.p256KeyPair() }), 403],
    ['a token for another push service', () => authorization({ audience: 'https://push.example' }), 403],
    ['a token that has ended', () => authorization({ expires: 1_000 }), 403],
    ['a token of more than a day', () => authorization({ expires: inAnHour() + 86_400 }), 403],
    ['no token', () => '', 403],
  ])('refuses %s', async (_name, value, status) => {
    const { endpoint } = push.subscribe(toBase64url(key.publicKey))
    expect((await send(endpoint, { ...good(), authorization: value() })).status).toBe(status)
  })

  test.each([
    ['without a TTL', { 'content-encoding': 'aes128gcm' }, 'x', 400],
    ['that is not encrypted', { ttl: '60' }, 'x', 400],
    ['that is too large', { ttl: '60', 'content-encoding': 'aes128gcm' }, 'x'.repeat(4_097), 413],
  ])('refuses a message %s', async (_name, headers, body, status) => {
    const { endpoint } = push.subscribe()
    expect((await send(endpoint, { ...headers, authorization: authorization() }, body)).status).toBe(status)
  })

  test('says when a subscription is gone, and forgets it', async () => {
    const { id, endpoint } = push.subscribe()
    push.unsubscribe(id)
    expect((await send(endpoint, good())).status).toBe(410)
    expect(push.attach(id, () => {})).toBeUndefined()
    expect(push.subscriptions.map((one) => one.id)).not.toContain(id)
  })

  test('is busy, gone, refusing or failing when it is told to', async () => {
    const { endpoint } = push.subscribe()
    const statusWhen = async (faults: object) => {
      push.faultProfile = faultProfile.parse(faults)
      return (await send(endpoint, good())).status
    }
    expect(await statusWhen({ busyShare: 1 })).toBe(429)
    expect(await statusWhen({ goneShare: 1 })).toBe(410)
    expect(await statusWhen({ refusing: true })).toBe(403)
    expect(await statusWhen({ failing: true })).toBe(503)
  })
})
