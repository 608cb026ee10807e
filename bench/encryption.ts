import { createECDH } from 'node:crypto'
import { encryptMessage } from '@zbell/core'
import { nodeCrypto } from '@zbell/service/crypto'
import { type Figure, figure } from './figure.ts'

const rounds = 4_000

/** Whole RFC 8291 messages a second, beside the one P-256 agreement that each cannot do without. */
export async function encryption(): Promise<Figure[]> {
  const { publicKey } = nodeCrypto.p256KeyPair()
  const keys = { p256dh: publicKey, auth: nodeCrypto.randomBytes(16) }
  const plaintext = new Uint8Array(300)
  const message = () => encryptMessage(plaintext, keys, nodeCrypto)
  const agreement = () => {
    const pair = createECDH('prime256v1')
    pair.generateKeys()
    pair.computeSecret(publicKey)
  }
  perSecond(message, 200)
  perSecond(agreement, 200)
  return [figure('web-push-encryption', perSecond(message, rounds), 'messages/s', perSecond(agreement, rounds))]
}

function perSecond(act: () => unknown, times: number): number {
  const startMs = performance.now()
  for (let i = 0; i < times; i++) act()
  return times / ((performance.now() - startMs) / 1_000)
}
