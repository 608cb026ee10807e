import { createHash, randomBytes, scrypt, timingSafeEqual } from 'node:crypto'
import { promisify } from 'node:util'

export type SecretKind = 'backend' | 'app' | 'device' | 'session' | 'browser' | 'link' | 'proof' | 'calendar'

/** A fresh secret of 256 bits; its first words say what it is, so that a pasted one is recognised. */
export const newSecret = (kind: SecretKind): string => `zb-${kind}-${randomBytes(32).toString('base64url')}`

/** How secrets of full entropy are kept: a plain hash is enough, since nobody can guess 256 bits. */
export const hashSecret = (secret: string): Buffer => createHash('sha256').update(secret).digest()

export const sameSecret = (a: string, b: string): boolean => timingSafeEqual(hashSecret(a), hashSecret(b))

const derive = promisify<string, Buffer, number, { N: number; r: number; p: number; maxmem: number }, Buffer>(scrypt)
const cost = { N: 16_384, r: 8, p: 5, maxmem: 64 * 1024 * 1024 }

/** scrypt (RFC 7914), with OWASP's cost for interactive sign-in. */
export async function hashPassword(password: string): Promise<string> {
  const salt = randomBytes(16)
  const hash = await derive(password.normalize('NFKC'), salt, 32, cost)
  return `scrypt.${salt.toString('base64url')}.${hash.toString('base64url')}`
}

export async function passwordFits(password: string, kept: string): Promise<boolean> {
  const [kind, salt, hash] = kept.split('.')
  if (kind !== 'scrypt' || !salt || !hash) return false
  const derived = await derive(password.normalize('NFKC'), Buffer.from(salt, 'base64url'), 32, cost)
  return timingSafeEqual(derived, Buffer.from(hash, 'base64url'))
}
