import { execFile } from 'node:child_process'
import { createECDH } from 'node:crypto'
import { promisify } from 'node:util'
import { encryptMessage } from '@zbell/core'
import { nodeCrypto } from '@zbell/service/crypto'
import { type Figure, figure } from './figure.ts'

const rounds = 4_000

/**
 * Whole RFC 8291 messages a second, beside the new key pair and agreement on P-256 that each cannot do without, as Node
 * makes them; and beside the agreements alone, as openssl makes them.
 */
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
  const messages = perSecond(message, rounds)
  return [
    figure('web-push-encryption', messages, 'messages/s', perSecond(agreement, rounds)),
    figure('web-push-encryption-openssl', messages, 'messages/s', await opensslAgreements()),
  ]
}

function perSecond(act: () => unknown, times: number): number {
  const startMs = performance.now()
  for (let i = 0; i < times; i++) act()
  return times / ((performance.now() - startMs) / 1_000)
}

async function opensslAgreements(): Promise<number> {
  const { stdout } = await promisify(execFile)('openssl', ['speed', '-seconds', '2', 'ecdhp256'])
  const perSecond = Number(/ecdh \(nistp256\)\s+[\d.]+s\s+([\d.]+)/.exec(stdout)?.[1])
  if (!(perSecond > 0)) throw new Error('openssl did not say how fast it is')
  return perSecond
}
