import { createECDH, createPrivateKey, createPublicKey, type KeyObject, X509Certificate } from 'node:crypto'
import { fromBase64url, jsonOf, textsIn, toBase64url } from '@zbell/core'
import { attempt } from './attempt.ts'
import { pemBlocks } from './pem.ts'
import { looksLikePkcs12, openPkcs12 } from './pkcs12.ts'
import { CredentialRefused } from './refusals.ts'
import { isCertificateRequest } from './request-form.ts'

/** What lay in the files that were handed in. */
export type Unpacked = {
  readonly keys: { readonly key: KeyObject; readonly keyId?: string }[]
  /** What a JSON file says that a key stood in, the key itself among it. */
  file?: unknown
  readonly certificates: X509Certificate[]
  publicKeys: number
  requests: number
}

/**
 * Takes files apart, whatever form each has: the form is recognised, not asked for.
 * @param passphrase for what is protected; an empty one and none are both tried when none is given
 * @param keyAt where in a JSON file the key stands, as a JSON Pointer; wherever one is when left out
 * @throws {CredentialRefused}
 */
export function unpack(files: readonly Buffer[], passphrase: string | undefined, keyAt?: string): Unpacked {
  const found: Unpacked = { keys: [], certificates: [], publicKeys: 0, requests: 0 }
  for (const file of files) {
    const text = file.toString('latin1')
    // Read as Latin-1, a byte order mark is three letters.
    const begins = /^(?:\u00ef\u00bb\u00bf)?\s*[{[]/.test(text)
    if (begins && text.includes('-----BEGIN ')) unpackKeyFile(file.toString('utf8'), passphrase, keyAt, found)
    else if (text.includes('-----BEGIN ')) unpackPem(text, passphrase, found)
    else if (/^\s*\{/.test(text)) unpackJson(file.toString('utf8'), found)
    else if (file[0] === 0x30) unpackDer(file, passphrase, found)
    else unpackPair(text, found)
  }
  return found
}

function unpackPem(text: string, passphrase: string | undefined, found: Unpacked): void {
  for (const { label, pem } of pemBlocks(text)) {
    if (label === 'CERTIFICATE' || label === 'X509 CERTIFICATE') found.certificates.push(readCertificate(pem))
    else if (label.endsWith('PRIVATE KEY')) found.keys.push({ key: readPrivatePem(pem, passphrase) })
    else if (label.endsWith('PUBLIC KEY')) found.publicKeys++
    else if (label.endsWith('CERTIFICATE REQUEST')) found.requests++
  }
}

function unpackDer(der: Buffer, passphrase: string | undefined, found: Unpacked): void {
  const certificate = attempt(() => new X509Certificate(der))
  if (certificate) {
    found.certificates.push(certificate)
    return
  }
  for (const type of ['pkcs8', 'sec1', 'pkcs1'] as const) {
    const key = attempt(() => createPrivateKey({ key: der, format: 'der', type }))
    if (key) {
      found.keys.push({ key })
      return
    }
  }
  if (attempt(() => createPublicKey({ key: der, format: 'der', type: 'spki' }))) found.publicKeys++
  else if (isCertificateRequest(der)) found.requests++
  else if (looksLikePkcs12(der)) {
    const { keys, certificates } = openPkcs12(der, passphrase)
    found.keys.push(...keys.map((key) => ({ key: createPrivateKey({ key, format: 'der', type: 'pkcs8' }) })))
    found.certificates.push(...certificates.map((one) => new X509Certificate(one)))
  } else found.keys.push({ key: readEncryptedDer(der, passphrase) })
}

/** JSON with PEM in it: what platforms let one download. */
function unpackKeyFile(text: string, passphrase: string | undefined, keyAt: string | undefined, found: Unpacked): void {
  const read = jsonOf(text.replace(/^\uFEFF/, ''))
  if (!read) throw new CredentialRefused('not-json')
  found.file ??= read.value
  const places = textsIn(read.value).filter((one) => one.text.includes('-----BEGIN '))
  const named = places.filter(({ pointer }) => pointer === keyAt)
  for (const one of named.length > 0 ? named : places) {
    // Copied by way of a shell or an environment, line ends are often written out once more.
    unpackPem(one.text.replaceAll('\\r', '').replaceAll('\\n', '\n'), passphrase, found)
  }
}

function unpackJson(text: string, found: Unpacked): void {
  const read: unknown = attempt(() => JSON.parse(text) as unknown)
  const list = (read as { keys?: unknown } | undefined)?.keys
  for (const jwk of Array.isArray(list) ? list : [read]) {
    const { kty, d, kid } = (jwk ?? {}) as { kty?: unknown; d?: unknown; kid?: unknown }
    if (typeof kty !== 'string') continue
    if (typeof d !== 'string') {
      found.publicKeys++
      continue
    }
    const key = attempt(() => createPrivateKey({ key: jwk as never, format: 'jwk' }))
    if (key?.asymmetricKeyDetails?.namedCurve === 'prime256v1') {
      const { x, y } = jwk as { x: string; y: string }
      keyOfPair(
        Buffer.from(`04${[x, y].map((part) => Buffer.from(part, 'base64url').toString('hex')).join('')}`, 'hex'),
        Buffer.from(d, 'base64url'),
      )
    }
    if (key) found.keys.push({ key, ...(typeof kid === 'string' ? { keyId: kid } : {}) })
  }
}

/** The two base64url strings of a web key pair, in either order: a point of 65 bytes and a scalar of 32. */
function unpackPair(text: string, found: Unpacked): void {
  const parts = text.split(/[\s,;"':=]+/).flatMap((word) => fromBase64url(word) ?? [])
  const point = parts.find((bytes) => bytes.length === 65 && bytes[0] === 4)
  const scalar = parts.find((bytes) => bytes.length === 32)
  if (point && !scalar) found.publicKeys++
  if (!point || !scalar) return
  found.keys.push({ key: keyOfPair(point, scalar) })
}

/** Node takes the public half of a JWK as it is given; whether it belongs to the private half has to be asked. */
function keyOfPair(point: Uint8Array, scalar: Uint8Array): KeyObject {
  const own = attempt(() => {
    const pair = createECDH('prime256v1')
    pair.setPrivateKey(scalar)
    return pair.getPublicKey()
  })
  if (!own?.equals(point)) throw new CredentialRefused('not-belonging')
  const [x, y, d] = [point.slice(1, 33), point.slice(33), scalar].map(toBase64url)
  return createPrivateKey({ key: { kty: 'EC', crv: 'P-256', x, y, d } as never, format: 'jwk' })
}

function readCertificate(pem: string): X509Certificate {
  const certificate = attempt(() => new X509Certificate(pem))
  if (!certificate) throw new CredentialRefused('something-else')
  return certificate
}

/** PKCS#8 plain and encrypted (RFC 5958), and the older PEM forms. */
function readPrivatePem(pem: string, passphrase: string | undefined): KeyObject {
  const isProtected = pem.includes('ENCRYPTED')
  if (isProtected && passphrase === undefined) {
    const open = attempt(() => createPrivateKey({ key: pem, passphrase: '' }))
    if (open) return open
    throw new CredentialRefused('passphrase-needed')
  }
  const key = attempt(() => createPrivateKey({ key: pem, ...(passphrase === undefined ? {} : { passphrase }) }))
  if (!key) throw new CredentialRefused(isProtected ? 'wrong-passphrase' : 'something-else')
  return key
}

function readEncryptedDer(der: Buffer, passphrase: string | undefined): KeyObject {
  const read = (given: string) =>
    attempt(() => createPrivateKey({ key: der, format: 'der', type: 'pkcs8', passphrase: given }))
  const key = read(passphrase ?? '')
  if (key) return key
  // An EncryptedPrivateKeyInfo (RFC 5958 §3) begins with the identifier of PBES2 or of one of the older schemes.
  const isEncrypted =
    der.includes(Buffer.from('06092a864886f70d01050d', 'hex')) ||
    der.includes(Buffer.from('06092a864886f70d0105', 'hex'))
  if (!isEncrypted) throw new CredentialRefused('something-else')
  throw new CredentialRefused(passphrase === undefined ? 'passphrase-needed' : 'wrong-passphrase')
}
