import { createHash, type KeyObject, type X509Certificate } from 'node:crypto'
import type { Platform } from '@zbell/core'
import { calculateJwkThumbprint, type JWK } from 'jose'
import { CredentialRefused } from './refusals.ts'
import { type Unpacked, unpack } from './unpack.ts'

export type CredentialKind = 'client-certificate' | 'signing-key' | 'service-key' | 'vapid-key'

/** What a credential is, once it is recognised: the secret, and what may be shown of it. */
export type Recognised =
  | {
      readonly is: 'client-certificate'
      readonly key: string
      readonly certificates: readonly string[]
      readonly fingerprint: string
      readonly subject: string
      readonly serial: string
      readonly notBefore: Date
      readonly notAfter: Date
    }
  | {
      readonly is: 'signing-key' | 'service-key' | 'vapid-key'
      readonly jwk: JWK
      readonly fingerprint: string
      readonly keyId: string | undefined
      readonly privateKey: KeyObject
      /** What the JSON file says that it stood in. */
      readonly file: unknown
    }
  /** A certificate without a key; it may belong to a request that was made here. */
  | { readonly is: 'certificate'; readonly certificate: X509Certificate; readonly chain: readonly X509Certificate[] }

const leastRsaBits = 2_048
/** To sign with a longer one takes longer than a request may. */
const maxRsaBits = 4_096

/**
 * Says what the files are, or refuses them.
 * @param platform a P-256 key is a web key pair for the web, and a signing key elsewhere
 * @param keyAt where in a JSON file the key stands, as a JSON Pointer
 * @throws {CredentialRefused}
 */
export async function recognise(
  files: readonly Buffer[],
  passphrase: string | undefined,
  platform: Platform,
  now: Date,
  keyAt?: string,
): Promise<Recognised> {
  const found = await unpack(files, passphrase, keyAt)
  const [first, second] = found.keys
  if (second && found.keys.some(({ key }) => !key.equals(first!.key))) throw new CredentialRefused('several-keys')
  if (!first) return withoutKey(found)
  checkStrength(first.key)
  if (found.certificates.length > 0) return marry(first.key, found.certificates, now)
  const jwk = first.key.export({ format: 'jwk' }) as JWK
  const fingerprint = await calculateJwkThumbprint(jwk)
  const known = { jwk, fingerprint, keyId: first.keyId, privateKey: first.key, file: found.file }
  if (first.key.asymmetricKeyType === 'rsa') return { is: 'service-key', ...known }
  if (jwk.crv !== 'P-256') throw new CredentialRefused('wrong-curve')
  return { is: platform === 'web' ? 'vapid-key' : 'signing-key', ...known }
}

function withoutKey(found: Unpacked): Recognised {
  const [certificate, ...chain] = found.certificates
  if (certificate) return { is: 'certificate', certificate, chain }
  if (found.requests > 0) throw new CredentialRefused('is-a-request')
  if (found.publicKeys > 0) throw new CredentialRefused('public-key')
  throw new CredentialRefused('something-else')
}

function checkStrength(key: KeyObject): void {
  const { asymmetricKeyType: type, asymmetricKeyDetails: details } = key
  if (type !== 'rsa' && type !== 'ec') throw new CredentialRefused('wrong-key-type')
  if (type === 'rsa' && (details?.modulusLength ?? 0) < leastRsaBits) throw new CredentialRefused('key-too-short')
  if (type === 'rsa' && (details?.modulusLength ?? 0) > maxRsaBits) throw new CredentialRefused('key-too-long')
}

/**
 * Puts a certificate and its key together.
 * @throws {CredentialRefused} when they do not belong together, or the certificate is not valid now
 */
export function marry(
  key: KeyObject,
  certificates: readonly X509Certificate[],
  now: Date,
): Recognised & { is: 'client-certificate' } {
  const own = certificates.find((one) => one.checkPrivateKey(key))
  if (!own) throw new CredentialRefused('not-belonging')
  const [notBefore, notAfter] = [new Date(own.validFrom), new Date(own.validTo)]
  if (notAfter <= notBefore) throw new CredentialRefused('ends-before-it-begins')
  if (notAfter <= now) throw new CredentialRefused('expired')
  if (notBefore > now) throw new CredentialRefused('not-yet-valid')
  return {
    is: 'client-certificate',
    key: key.export({ type: 'pkcs8', format: 'pem' }) as string,
    certificates: [own, ...certificates.filter((one) => one !== own)].map((one) => one.toString()),
    fingerprint: createHash('sha256').update(own.raw).digest('hex'),
    subject: own.subject.replaceAll('\n', ', '),
    serial: own.serialNumber,
    notBefore,
    notAfter,
  }
}
