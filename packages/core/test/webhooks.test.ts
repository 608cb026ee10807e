import { createHmac, randomBytes } from 'node:crypto'
import { describe, expect, test } from '@jest/globals'
import {
  maxDispatchMs,
  newSigningSecret,
  outcomeOf,
  type ReceiverAnswer,
  secretOf,
  signMessage,
  verifyIncoming,
  verifyMessage,
} from '@zbell/core/webhooks'
import { nodeCrypto } from '@zbell/service/crypto'
import fc from 'fast-check'

const bytes = (text: string) => new TextEncoder().encode(text)
const secret = `whsec_${Buffer.alloc(32, 7).toString('base64')}`
const nowMs = Date.UTC(2026, 10, 28, 12)
const message = { id: 'firing-1', timestamp: nowMs / 1_000, body: bytes('{"vessel":"Kittiwake"}') }
const verify = (headers: Record<string, string | undefined>, body = message.body, secrets = [secret], at = nowMs) => {
  const verdict = verifyMessage(headers, body, secrets, at, nodeCrypto)
  return verdict.is === 'good' ? verdict.id : verdict.says
}

describe('a signed message', () => {
  test('has the signature that an HMAC by other means has', () => {
    const own = createHmac('sha256', Buffer.alloc(32, 7))
      .update(`firing-1.${message.timestamp}.{"vessel":"Kittiwake"}`)
      .digest('base64')
    expect(signMessage(message, [secret], nodeCrypto)).toEqual({
      'webhook-id': 'firing-1',
      'webhook-timestamp': String(message.timestamp),
      'webhook-signature': `v1,${own}`,
    })
  })

  test('is believed with any of the secrets that sign it', () => {
    const next = newSigningSecret(nodeCrypto)
    const headers = signMessage(message, [secret, next], nodeCrypto)
    for (const known of [[secret], [next], [newSigningSecret(nodeCrypto), next]])
      expect(verify(headers, message.body, known)).toBe('firing-1')
    expect(verify(headers, message.body, [newSigningSecret(nodeCrypto)])).toBe('has no signature that fits')
    expect(verify({ ...headers, 'webhook-signature': `v1a,AAAA v2,x ${headers['webhook-signature']}` })).toBe(
      'firing-1',
    )
  })

  test('is refused in words when anything of it is another', () => {
    const headers = signMessage(message, [secret], nodeCrypto)
    expect(verify({ ...headers, 'webhook-id': 'firing-2' })).toBe('has no signature that fits')
    expect(verify({ ...headers, 'webhook-timestamp': String(message.timestamp + 1) })).toBe(
      'has no signature that fits',
    )
    expect(verify(headers, bytes('{"vessel":"Turnstone"}'))).toBe('has no signature that fits')
    expect(verify({ ...headers, 'webhook-signature': undefined })).toContain('lacks one of the headers webhook-id')
    expect(verify({ ...headers, 'webhook-timestamp': '1e9' })).toContain('no number of seconds')
    expect(verify({ ...headers, 'webhook-id': 'a.1' })).toContain('has a full stop')
    expect(verify({ ...headers, 'webhook-signature': 'v1,***' })).toBe('has no signature that fits')
  })

  test('is believed for five minutes before and after', () => {
    const headers = signMessage(message, [secret], nodeCrypto)
    for (const by of [-300, 0, 300])
      expect(verify(headers, message.body, [secret], nowMs + by * 1_000)).toBe('firing-1')
    expect(verify(headers, message.body, [secret], nowMs + 301_000)).toBe('was signed 301 seconds ago; 300 are allowed')
    expect(verify(headers, message.body, [secret], nowMs - 301_000)).toContain('301 seconds from now')
  })

  test('is never taken for one whose parts lie elsewhere', () => {
    expect(() => signMessage({ ...message, id: 'a.1' }, [secret], nodeCrypto)).toThrow(RangeError)
    expect(() => signMessage(message, ['whsec_short'], nodeCrypto)).toThrow('24 to 64 bytes')
    expect(secretOf(newSigningSecret(nodeCrypto))).toHaveLength(32)
    for (const text of ['', 'whsec_', 'a'.repeat(20), '*'.repeat(40), Buffer.alloc(65).toString('base64')])
      expect(secretOf(text)).toBeUndefined()
  })

  test('is believed for any body, and for no other', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 200 }), fc.uint8Array({ maxLength: 200 }), (body, other) => {
        const headers = signMessage({ ...message, body }, [secret], nodeCrypto)
        expect(verify(headers, body as never)).toBe('firing-1')
        if (Buffer.compare(body, other) !== 0)
          expect(verify(headers, other as never)).toBe('has no signature that fits')
      }),
    )
  })
})

describe('a message of somebody who posts their own JSON', () => {
  const body = bytes('{"warning":"gale"}')
  const of = (
    verification: Parameters<typeof verifyIncoming>[0],
    headers: Record<string, string>,
    secrets = ['s3cret'],
  ) => verifyIncoming(verification, headers, body, secrets, nowMs, nodeCrypto)

  test('is believed by a secret in a header', () => {
    const by = { by: 'secret', header: 'X-Weather-Key' } as const
    expect(of(by, { 'x-weather-key': 's3cret' })).toBeUndefined()
    expect(of(by, { 'x-weather-key': 'next' }, ['s3cret', 'next'])).toBeUndefined()
    expect(of(by, { 'x-weather-key': 's3cre' })).toBe('has another secret in the header x-weather-key')
    expect(of(by, {})).toBe('lacks the header x-weather-key')
    expect(of(by, { 'x-weather-key': '' }, [''])).toBe('lacks the header x-weather-key')
  })

  test('is believed by an HMAC over its body', () => {
    const hmac = createHmac('sha256', 's3cret').update(body).digest()
    const hex = { by: 'hmac-sha256', header: 'X-Signature', prefix: 'sha256=', encoding: 'hex' } as const
    const base64 = { by: 'hmac-sha256', header: 'X-Signature', encoding: 'base64' } as const
    expect(of(hex, { 'x-signature': `sha256=${hmac.toString('hex')}` })).toBeUndefined()
    expect(of(hex, { 'x-signature': `sha256=${hmac.toString('hex').toUpperCase()}` })).toBeUndefined()
    expect(of(base64, { 'x-signature': hmac.toString('base64') })).toBeUndefined()
    expect(of(hex, { 'x-signature': hmac.toString('hex') })).toContain('has no sha256= in front')
    expect(of(hex, { 'x-signature': `sha256=${randomBytes(32).toString('hex')}` })).toContain('does not fit its body')
    expect(of(hex, { 'x-signature': `sha256=${hmac.toString('hex').slice(2)}` })).toContain('does not fit its body')
    expect(of(hex, { 'x-signature': 'sha256=zz' })).toBe('has no hex in the header x-signature')
    expect(of(base64, { 'x-signature': hmac.toString('base64') }, ['other'])).toContain('does not fit its body')
  })

  test('is believed by the signature of the standard', () => {
    const headers = signMessage({ ...message, body }, [secret], nodeCrypto)
    expect(of({ by: 'standard-webhooks' }, headers, [secret])).toBeUndefined()
    expect(of({ by: 'standard-webhooks' }, {}, [secret])).toContain('lacks one of the headers')
  })
})

describe('an answer of a receiver', () => {
  const of = (answer: ReceiverAnswer, more: { attempts?: number; agoMs?: number; unit?: number } = {}) =>
    outcomeOf(answer, { attempts: more.attempts ?? 1, firstMs: nowMs - (more.agoMs ?? 0), nowMs, unit: more.unit ?? 0 })
  const answered = (status: number, retryAfter?: string): ReceiverAnswer => ({ is: 'answered', status, retryAfter })

  test('of any 2xx has heard, and of 410 wants nothing more', () => {
    for (const status of [200, 202, 204, 299]) expect(of(answered(status))).toEqual({ is: 'told' })
    expect(of(answered(410))).toMatchObject({ is: 'unwanted' })
    expect(of(answered(410), { agoMs: maxDispatchMs * 2 })).toMatchObject({ is: 'unwanted' })
  })

  test('of anything else is asked again, and a redirect is not followed', () => {
    for (const status of [100, 301, 400, 404, 429, 500, 503]) expect(of(answered(status)).is).toBe('again')
    expect(of(answered(307))).toMatchObject({ says: 'answered 307: redirects are not followed' })
    expect(of({ is: 'silent', says: 'hung up' })).toMatchObject({ is: 'again', says: 'hung up' })
  })

  test('says when at the soonest, in seconds or as a date', () => {
    expect(of(answered(503, '120'))).toMatchObject({ afterMs: 120_000 })
    expect(of(answered(503, new Date(nowMs + 90_000).toUTCString()))).toMatchObject({ afterMs: 90_000 })
    expect(of(answered(503, '1'))).toMatchObject({ afterMs: 2_500 })
    expect(of(answered(503, 'soon'))).toMatchObject({ afterMs: 2_500 })
    expect(of(answered(503, '999999999'))).toMatchObject({ afterMs: 86_400_000 })
  })

  test('is waited for with growing pauses over three days, and no longer', () => {
    for (const unit of [0, 0.5, 0.999]) {
      let agoMs = 0
      let attempts = 1
      const pauses: number[] = []
      for (;;) {
        const outcome = of(answered(500), { attempts, agoMs, unit })
        if (outcome.is !== 'again') {
          expect(outcome).toEqual({ is: 'given-up', says: 'answered 500' })
          break
        }
        pauses.push(outcome.afterMs)
        agoMs += outcome.afterMs
        attempts++
      }
      // The last attempt is made exactly when the time is over.
      expect(agoMs).toBe(maxDispatchMs)
      expect(pauses.slice(0, -1)).toEqual([...pauses.slice(0, -1)].sort((a, b) => a - b))
      expect(attempts).toBeGreaterThan(20)
      expect(attempts).toBeLessThan(45)
    }
  })
})
