import 'reflect-metadata'
import { createHash, createPublicKey, webcrypto, type X509Certificate } from 'node:crypto'
import * as x509 from '@peculiar/x509'
import { attempt } from './attempt.ts'

export const isCertificateRequest = (der: Buffer): boolean =>
  attempt(() => new x509.Pkcs10CertificateRequest(new Uint8Array(der))) !== undefined

/** Keys of 2,048 bits are what every platform takes for its certificates. */
const algorithm = {
  name: 'RSASSA-PKCS1-v1_5',
  hash: 'SHA-256',
  modulusLength: 2_048,
  publicExponent: Uint8Array.of(1, 0, 1),
} as const

export type MadeRequest = { readonly pem: string; readonly privateKey: Buffer; readonly publicKeyHash: string }

/**
 * Makes a key pair and a PKCS#10 request (RFC 2986) for it.
 * @param commonName what the certificate shall be for; shown by the platform
 */
export async function makeCertificateRequest(commonName: string): Promise<MadeRequest> {
  x509.cryptoProvider.set(webcrypto as Crypto)
  const keys = (await webcrypto.subtle.generateKey(algorithm, true, ['sign', 'verify'])) as CryptoKeyPair
  const request = await x509.Pkcs10CertificateRequestGenerator.create({
    name: [{ CN: [commonName] }],
    keys,
    signingAlgorithm: algorithm,
  })
  const spki = Buffer.from(await webcrypto.subtle.exportKey('spki', keys.publicKey))
  return {
    pem: `${request.toString('pem')}\n`,
    privateKey: Buffer.from(await webcrypto.subtle.exportKey('pkcs8', keys.privateKey)),
    publicKeyHash: createHash('sha256').update(spki).digest('hex'),
  }
}

/** By which a certificate finds the request that it was issued for. */
export const publicKeyHash = (certificate: X509Certificate): string =>
  createHash('sha256')
    .update(
      createPublicKey(certificate.publicKey.export({ type: 'spki', format: 'pem' })).export({
        type: 'spki',
        format: 'der',
      }),
    )
    .digest('hex')
