import { createECDH, createPrivateKey, createPublicKey, type KeyObject, X509Certificate } from 'node:crypto'
import { fromBase64url, jsonOf, textsIn, toBase64url } from '@zbell/core'
import { attempt } from './attempt.ts'
import { openElsewhere } from './open-elsewhere.ts'
import type { Protected } from './open-protected.ts'
import { pemBlocks } from './pem.ts'
import { CredentialRefused } from './refusals.ts'
import { isCertificateRequest } from './request-form.ts'

/** What lay in the files that were added. */
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
export async function unpack(
  files: readonly Buffer[],
  passphrase: string | undefined,
  keyAt?: string,
): Promise<Unpacked> {
  const found: Unpacked = { keys: [], certificates: [], publicKeys: 0, requests: 0 }
  for (const file of files) {
    const text = file.toString('latin1')
    // Read as Latin-1, a byte order mark is three letters.
    const begins = /^(?:\u00ef\u00bb\u00bf)?\s*[{[]/.test(text)
    if (begins && text.includes('-----BEGIN ')) await unpackKeyFile(file.toString('utf8'), passphrase, keyAt, found)
    else if (text.includes('-----BEGIN ')) await unpackPem(text, passphrase, found)
    else if (/^\s*\{/.test(text)) unpackJson(file.toString('utf8'), found)
    else if (file[0] === 0x30) await unpackDer(file, passphrase, found)
    else unpackPair(text, found)
  }
  return found
}

/** A chain has four certificates, or five. */
const maxBlocks = 30

async function unpackPem(text: string, passphrase: string | undefined, found: Unpacked): Promise<void> {
  const blocks = pemBlocks(text)
  if (blocks.length + found.keys.length + found.certificates.length > maxBlocks)
    throw new CredentialRefused('too-many-parts')
  for (const { label, pem } of blocks) {
    if (label === 'CERTIFICATE' || label === 'X509 CERTIFICATE') found.certificates.push(readCertificate(pem))
    else if (label.endsWith('PRIVATE KEY')) found.keys.push({ key: await readPrivatePem(pem, passphrase) })
    else if (label.endsWith('PUBLIC KEY')) found.publicKeys++
    else if (label.endsWith('CERTIFICATE REQUEST')) found.requests++
  }
}

async function unpackDer(der: Buffer, passphrase: string | undefined, found: Unpacked): Promise<void> {
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
  else {
    const is = looksLikePkcs12(der) ? 'pkcs12' : 'der'
    const { keys, certificates } = await opened({ is, content: der.toString('base64'), passphrase: passphrase ?? null })
    if (keys.length + certificates.length > maxBlocks) throw new CredentialRefused('too-many-parts')
    found.keys.push(...keys.map((key) => ({ key })))
    found.certificates.push(...certificates)
  }
}

/** Whether the bytes are the outer shell of RFC 7292: a sequence that begins with version 3. */
const looksLikePkcs12 = (der: Buffer): boolean => {
  const length = der[1] ?? 0
  const at = length < 0x80 ? 2 : 2 + (length & 0x7f)
  return der[0] === 0x30 && der.subarray(at, at + 3).equals(Buffer.of(2, 1, 3))
}

/** @throws {CredentialRefused} */
async function opened(given: Protected): Promise<{ keys: KeyObject[]; certificates: X509Certificate[] }> {
  const came = await openElsewhere(given)
  if ('refused' in came) throw new CredentialRefused(came.refused)
  const read = attempt(() => ({
    keys: came.keys.map((key) => createPrivateKey({ key: Buffer.from(key, 'base64'), format: 'der', type: 'pkcs8' })),
    certificates: came.certificates.map((one) => new X509Certificate(Buffer.from(one, 'base64'))),
  }))
  if (!read) throw new CredentialRefused('something-else')
  return read
}

/** JSON with PEM in it: what platforms let one download. */
async function unpackKeyFile(
  text: string,
  passphrase: string | undefined,
  keyAt: string | undefined,
  found: Unpacked,
): Promise<void> {
  const read = jsonOf(text.replace(/^\uFEFF/, ''))
  if (!read) throw new CredentialRefused('not-json')
  found.file ??= read.value
  const places = textsIn(read.value).filter((one) => one.text.includes('-----BEGIN '))
  const named = places.filter(({ pointer }) => pointer === keyAt)
  for (const one of named.length > 0 ? named : places) {
    // Copied by way of a shell or an environment, line ends are often written out once more.
    await unpackPem(one.text.replaceAll('\\r', '').replaceAll('\\n', '\n'), passphrase, found)
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
async function readPrivatePem(pem: string, passphrase: string | undefined): Promise<KeyObject> {
  if (pem.includes('ENCRYPTED')) {
    const { keys } = await opened({ is: 'pem', content: pem, passphrase: passphrase ?? null })
    return keys[0]!
  }
  const key = attempt(() => createPrivateKey({ key: pem }))
  if (!key) throw new CredentialRefused('something-else')
  return key
}
