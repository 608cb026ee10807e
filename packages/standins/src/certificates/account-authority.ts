import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import forge from 'node-forge'
import { newCertificate, newKeys } from './authority.ts'

const issuer = [{ name: 'commonName', value: 'Stand-in account authority of this machine' }]

/** Signs what an account's owner requests (RFC 2986), as a platform's pages for developers do. Made at first start, and kept. */
export class AccountAuthority {
  /** PEM; whoever shows a certificate under it belongs to the account. */
  readonly ca: string
  readonly #key: forge.pki.rsa.PrivateKey

  private constructor(ca: string, key: string) {
    this.ca = ca
    this.#key = forge.pki.privateKeyFromPem(key)
  }

  static in(dir: string): AccountAuthority {
    mkdirSync(dir, { recursive: true, mode: 0o700 })
    const [caFile, keyFile] = [join(dir, 'account-ca.pem'), join(dir, 'account-ca-key.pem')]
    if (!existsSync(caFile)) {
      const keys = newKeys()
      const ca = newCertificate(keys.publicKey, { subject: issuer, issuer })
      ca.setExtensions([
        { name: 'basicConstraints', cA: true, critical: true },
        { name: 'keyUsage', keyCertSign: true, critical: true },
      ])
      ca.sign(keys.privateKey, forge.md.sha256.create())
      writeFileSync(keyFile, keys.pem, { mode: 0o600 })
      writeFileSync(caFile, forge.pki.certificateToPem(ca))
    }
    return new AccountAuthority(readFileSync(caFile, 'utf8'), readFileSync(keyFile, 'utf8'))
  }

  /** @returns the certificate, PEM; `undefined` for what is no request */
  sign(requestPem: string): string | undefined {
    let request: forge.pki.CertificateSigningRequest
    try {
      request = forge.pki.certificationRequestFromPem(requestPem)
    } catch {
      return undefined // Whatever the library says of it: it is no request.
    }
    if (!request.verify() || !request.publicKey) return undefined
    const certificate = newCertificate(request.publicKey, { subject: request.subject.attributes, issuer })
    certificate.setExtensions([
      { name: 'basicConstraints', cA: false },
      { name: 'extKeyUsage', clientAuth: true },
    ])
    certificate.sign(this.#key, forge.md.sha256.create())
    return forge.pki.certificateToPem(certificate)
  }
}
