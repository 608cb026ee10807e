import { createECDH } from 'node:crypto'
import { describe, expect, test } from '@jest/globals'
import { nodeCrypto } from '@zbell/service/crypto'
import fc from 'fast-check'
import { decryptMessage, encryptMessage, fromBase64url, maxPlaintextBytes, toBase64url, utf8 } from '../src/index.ts'

const bytes = (text: string) => fromBase64url(text)!

/** RFC 8291, appendix A. */
const example = {
  plaintext: 'When I grow up, I want to be a watermelon',
  sender: {
    privateKey: bytes('yfWPiYE-n46HLnH0KqZOF1fJJU3MYrct3AELtAQ-oRw'),
    publicKey: bytes('BP4z9KsN6nGRTbVYI_c7VJSPQTBtkgcy27mlmlMoZIIgDll6e3vCYLocInmYWAmS6TlzAC8wEqKK6PBru3jl7A8'),
  },
  receiver: {
    privateKey: bytes('q1dXpw3UpT5VOmu_cf_v6ih07Aems3njxI-JWgLcM94'),
    publicKey: bytes('BCVxsr7N_eNgVRqvHtD0zTZsEc6-VV-JvLexhqUzORcxaOzi6-AYWXvTBHm4bjyPjs7Vd8pZGH6SRpkNtoIAiw4'),
    auth: bytes('BTBZMqHH6r4Tts7J_aSIgg'),
  },
  salt: bytes('DGv6ra1nlYgDCS1FRnbzlw'),
  body: 'DGv6ra1nlYgDCS1FRnbzlwAAEABBBP4z9KsN6nGRTbVYI_c7VJSPQTBtkgcy27mlmlMoZIIgDll6e3vCYLocInmYWAmS6TlzAC8wEqKK6PBru3jl7A_yl95bQpu6cVPTpK4Mqgkf1CXztLVBSt2Ks3oZwbuwXPXLWyouBWLVWGNWQexSgSxsj_Qulcy4a-fN',
}

function browser() {
  const pair = createECDH('prime256v1')
  const publicKey = new Uint8Array(pair.generateKeys())
  const privateKey = new Uint8Array(Buffer.concat([Buffer.alloc(32), pair.getPrivateKey()]).subarray(-32))
  return { publicKey, privateKey, auth: nodeCrypto.randomBytes(16) }
}

describe('web push encryption', () => {
  test('the standard’s own example comes out byte for byte', () => {
    const { receiver, sender, salt } = example
    const body = encryptMessage(
      utf8(example.plaintext),
      { p256dh: receiver.publicKey, auth: receiver.auth },
      nodeCrypto,
      { salt, sender },
    )
    expect(toBase64url(body)).toBe(example.body)
  })

  test('the standard’s own example is read back', () => {
    const plaintext = decryptMessage(bytes(example.body), example.receiver, nodeCrypto)
    expect(new TextDecoder().decode(plaintext)).toBe(example.plaintext)
  })

  test('whatever is encrypted for a browser is what it decrypts', () => {
    const receiver = browser()
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: maxPlaintextBytes }), (plaintext) => {
        const body = encryptMessage(plaintext, { p256dh: receiver.publicKey, auth: receiver.auth }, nodeCrypto)
        expect(Buffer.from(decryptMessage(body, receiver, nodeCrypto)).equals(Buffer.from(plaintext))).toBe(true)
      }),
      { numRuns: 50 },
    )
  })

  test('the largest message fills 4,096 bytes exactly, and one byte more is refused', () => {
    const { publicKey, auth } = browser()
    const encrypt = (size: number) => encryptMessage(new Uint8Array(size), { p256dh: publicKey, auth }, nodeCrypto)
    expect(encrypt(maxPlaintextBytes)).toHaveLength(4_096)
    expect(() => encrypt(maxPlaintextBytes + 1)).toThrow(RangeError)
  })

  test('another browser, a changed byte or a short body decrypts to nothing', () => {
    const receiver = browser()
    const body = encryptMessage(utf8('secret'), { p256dh: receiver.publicKey, auth: receiver.auth }, nodeCrypto)
    expect(() => decryptMessage(body, browser(), nodeCrypto)).toThrow()
    const changed = body.slice()
    changed[90]! ^= 1
    expect(() => decryptMessage(changed, receiver, nodeCrypto)).toThrow()
    expect(() => decryptMessage(body.slice(0, 80), receiver, nodeCrypto)).toThrow(RangeError)
  })

  test('a key that is not on the curve is refused', () => {
    const off = new Uint8Array(65).fill(7)
    off[0] = 4
    expect(() => encryptMessage(utf8('x'), { p256dh: off, auth: new Uint8Array(16) }, nodeCrypto)).toThrow()
    expect(() =>
      encryptMessage(utf8('x'), { p256dh: new Uint8Array(64), auth: new Uint8Array(16) }, nodeCrypto),
    ).toThrow(RangeError)
  })
})
