import { generateKeyPairSync, randomBytes, X509Certificate } from 'node:crypto'
import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import forge from 'node-forge'

export type ServerCertificate = { readonly caFile: string; readonly cert: string; readonly key: string }

const dayMs = 86_400_000
const renewBeforeMs = 30 * dayMs

/**
 * A certificate authority of this machine's own and one certificate for loopback, made at first start and kept. Nothing
 * but the folder's owner can read the keys; only whoever is told to trust `ca.pem` trusts them.
 */
export function serverCertificate(dir: string): ServerCertificate {
  mkdirSync(dir, { recursive: true, mode: 0o700 })
  const caFile = join(dir, 'ca.pem')
  const certFile = join(dir, 'server.pem')
  const keyFile = join(dir, 'server-key.pem')
  const known = existsSync(certFile) && new X509Certificate(readFileSync(certFile, 'utf8'))
  if (!known || new Date(known.validTo).getTime() - renewBeforeMs < Date.now()) {
    const made = makeCertificates()
    writeFileSync(keyFile, made.key, { mode: 0o600 })
    writeFileSync(caFile, made.ca)
    writeFileSync(certFile, made.cert)
  }
  return { caFile, cert: readFileSync(certFile, 'utf8'), key: readFileSync(keyFile, 'utf8') }
}

function makeCertificates(): { readonly ca: string; readonly cert: string; readonly key: string } {
  const issuer = [{ name: 'commonName', value: 'Stand-in authority of this machine' }]
  const caKeys = newKeys()
  const ca = newCertificate(caKeys.publicKey, { subject: issuer, issuer })
  ca.setExtensions([
    { name: 'basicConstraints', cA: true, pathLenConstraint: 0, critical: true },
    { name: 'keyUsage', keyCertSign: true, cRLSign: true, critical: true },
    { name: 'subjectKeyIdentifier' },
  ])
  ca.sign(caKeys.privateKey, forge.md.sha256.create())
  const keys = newKeys()
  const cert = newCertificate(keys.publicKey, { subject: [{ name: 'commonName', value: 'localhost' }], issuer })
  cert.setExtensions([
    { name: 'basicConstraints', cA: false },
    { name: 'extKeyUsage', serverAuth: true },
    // RFC 5280 §4.2.1.6: 2 is a name, 7 an address.
    {
      name: 'subjectAltName',
      altNames: [
        { type: 2, value: 'localhost' },
        { type: 7, ip: '127.0.0.1' },
      ],
    },
    { name: 'authorityKeyIdentifier', keyIdentifier: ca.generateSubjectKeyIdentifier().getBytes() },
  ])
  cert.sign(caKeys.privateKey, forge.md.sha256.create())
  return { ca: forge.pki.certificateToPem(ca), cert: forge.pki.certificateToPem(cert), key: keys.pem }
}

/** Made by Node, which is a hundred times as fast at it as the library. */
export function newKeys() {
  const { publicKey, privateKey } = generateKeyPairSync('rsa', {
    modulusLength: 2_048,
    publicKeyEncoding: { type: 'spki', format: 'pem' },
    privateKeyEncoding: { type: 'pkcs8', format: 'pem' },
  })
  return {
    publicKey: forge.pki.publicKeyFromPem(publicKey),
    privateKey: forge.pki.privateKeyFromPem(privateKey),
    pem: privateKey,
  }
}

export function newCertificate(
  publicKey: forge.pki.PublicKey,
  { subject, issuer }: Record<'subject' | 'issuer', forge.pki.CertificateField[]>,
): forge.pki.Certificate {
  const certificate = forge.pki.createCertificate()
  certificate.publicKey = publicKey
  // RFC 5280 §4.1.2.2: a positive integer, and another one for each certificate of an authority.
  certificate.serialNumber = `01${randomBytes(15).toString('hex')}`
  certificate.validity.notBefore = new Date(Date.now() - dayMs)
  certificate.validity.notAfter = new Date(Date.now() + 800 * dayMs)
  certificate.setSubject(subject)
  certificate.setIssuer(issuer)
  return certificate
}
