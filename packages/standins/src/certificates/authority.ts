import 'reflect-metadata'
import { webcrypto } from 'node:crypto'
import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import * as x509 from '@peculiar/x509'

export type ServerCertificate = { readonly caFile: string; readonly cert: string; readonly key: string }

const algorithm = { name: 'ECDSA', namedCurve: 'P-256', hash: 'SHA-256' } as const
const dayMs = 86_400_000
const renewBeforeMs = 30 * dayMs

/**
 * A certificate authority of this machine's own and one certificate for loopback, made at first start and kept. Nothing
 * but the folder's owner can read the keys; only whoever is told to trust `ca.pem` trusts them.
 */
export async function serverCertificate(dir: string): Promise<ServerCertificate> {
  mkdirSync(dir, { recursive: true, mode: 0o700 })
  const caFile = join(dir, 'ca.pem')
  const certFile = join(dir, 'server.pem')
  const keyFile = join(dir, 'server-key.pem')
  const known = existsSync(certFile) && new x509.X509Certificate(readFileSync(certFile, 'utf8'))
  if (!known || known.notAfter.getTime() - renewBeforeMs < Date.now()) {
    const made = await makeCertificates()
    writeFileSync(keyFile, made.key, { mode: 0o600 })
    writeFileSync(caFile, made.ca)
    writeFileSync(certFile, made.cert)
  }
  return { caFile, cert: readFileSync(certFile, 'utf8'), key: readFileSync(keyFile, 'utf8') }
}

async function makeCertificates(): Promise<{ ca: string; cert: string; key: string }> {
  x509.cryptoProvider.set(webcrypto as Crypto)
  const notBefore = new Date(Date.now() - dayMs)
  const notAfter = new Date(Date.now() + 800 * dayMs)
  const caKeys = await webcrypto.subtle.generateKey(algorithm, true, ['sign', 'verify'])
  const ca = await x509.X509CertificateGenerator.createSelfSigned({
    name: 'CN=Stand-in authority of this machine',
    notBefore,
    notAfter,
    signingAlgorithm: algorithm,
    keys: caKeys as CryptoKeyPair,
    extensions: [
      new x509.BasicConstraintsExtension(true, 0, true),
      new x509.KeyUsagesExtension(x509.KeyUsageFlags.keyCertSign | x509.KeyUsageFlags.cRLSign, true),
      await x509.SubjectKeyIdentifierExtension.create(caKeys.publicKey as CryptoKey),
    ],
  })
  const keys = await webcrypto.subtle.generateKey(algorithm, true, ['sign', 'verify'])
  const cert = await x509.X509CertificateGenerator.create({
    subject: 'CN=localhost',
    issuer: ca.subject,
    notBefore,
    notAfter,
    signingAlgorithm: algorithm,
    publicKey: keys.publicKey as CryptoKey,
    signingKey: caKeys.privateKey as CryptoKey,
    extensions: [
      new x509.BasicConstraintsExtension(false, undefined, true),
      new x509.ExtendedKeyUsageExtension([x509.ExtendedKeyUsage.serverAuth]),
      new x509.SubjectAlternativeNameExtension([
        { type: 'dns', value: 'localhost' },
        { type: 'ip', value: '127.0.0.1' },
      ]),
      await x509.AuthorityKeyIdentifierExtension.create(caKeys.publicKey as CryptoKey),
    ],
  })
  const pkcs8 = await webcrypto.subtle.exportKey('pkcs8', keys.privateKey as CryptoKey)
  return { ca: ca.toString('pem'), cert: cert.toString('pem'), key: x509.PemConverter.encode(pkcs8, 'PRIVATE KEY') }
}
