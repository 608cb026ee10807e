import type * as Crypto from 'node:crypto'
import type Forge from 'node-forge'

/** Something that a passphrase protects. */
export type Protected = {
  readonly is: 'pem' | 'der' | 'pkcs12'
  /** A PEM block, or bytes in base64. */
  readonly content: string
  readonly passphrase: string | null
}

/** What came out, as DER in base64, or why nothing did. */
export type Opened =
  | { readonly keys: readonly string[]; readonly certificates: readonly string[] }
  | { readonly refused: 'passphrase-needed' | 'wrong-passphrase' | 'too-costly' | 'something-else' }

/**
 * Opens a key (RFC 5958, and the older forms of PEM) or a PKCS#12 file (RFC 7292), of the modern (PBES2, AES) and the old
 * encryption (RC2, 3DES). It is handed to another process as text, so it uses nothing but what it is given: the file says
 * itself how long deriving its key takes.
 * @param maxRounds of derivation, all of a file together
 */
export function openProtected(forge: typeof Forge, crypto: typeof Crypto, given: Protected, maxRounds: number): Opened {
  type Asn1 = Forge.asn1.Asn1
  const { asn1, pki, pkcs12 } = forge
  const attempt = <T>(read: () => T): T | undefined => {
    try {
      return read()
    } catch {
      return undefined // Whatever a library says may quote the file.
    }
  }
  const roundsIn = (node: Asn1, depth: number): number => {
    if (depth > 60) return Number.POSITIVE_INFINITY
    if (typeof node.value === 'string') {
      const { value } = node
      const isWrapped = node.type === asn1.Type.OCTETSTRING && value.startsWith('0')
      const inner = isWrapped ? attempt(() => asn1.fromDer(value)) : undefined
      return inner ? roundsIn(inner, depth + 1) : 0
    }
    // Derivation parameters are a salt and a number of rounds, side by side (RFC 8018 A.2; scrypt, RFC 7914 §7: N, r and p).
    const numbers = node.value.map((one) =>
      one.type === asn1.Type.INTEGER && typeof one.value === 'string'
        ? Number.parseInt(forge.util.bytesToHex(one.value) || '0', 16)
        : undefined,
    )
    const salt = node.value.findIndex(({ type }) => type === asn1.Type.OCTETSTRING)
    const [first = 0, second, third] = salt < 0 ? [] : numbers.slice(salt + 1)
    const here = second !== undefined && third !== undefined ? (first * second * third) / 4 : first
    return node.value.reduce((sum, child) => sum + roundsIn(child, depth + 1), here)
  }
  const shellOf = (der: Buffer): Asn1 | undefined => attempt(() => asn1.fromDer(der.toString('binary')))
  const isCostly = (der: Buffer): boolean => {
    const shell = shellOf(der)
    return shell !== undefined && roundsIn(shell, 0) > maxRounds
  }
  const der = Buffer.from(
    given.is === 'pem' ? given.content.replace(/-----[^-]*-----/g, '').replace(/^.*:.*$/gm, '') : given.content,
    'base64',
  )
  if (isCostly(der)) return { refused: 'too-costly' }
  // No passphrase and an empty one are two things in PKCS#12 (RFC 7292 appendix B.1).
  const closed = { refused: given.passphrase === null ? 'passphrase-needed' : 'wrong-passphrase' } as const

  if (given.is !== 'pkcs12') {
    const passphrase = given.passphrase ?? ''
    const key = attempt(() =>
      given.is === 'pem'
        ? crypto.createPrivateKey({ key: given.content, passphrase })
        : crypto.createPrivateKey({ key: der, format: 'der', type: 'pkcs8', passphrase }),
    )
    if (key) return { keys: [key.export({ type: 'pkcs8', format: 'der' }).toString('base64')], certificates: [] }
    // An EncryptedPrivateKeyInfo (RFC 5958 §3) begins with the identifier of PBES2 or of one of the older schemes.
    const isEncrypted = given.is === 'pem' || der.includes(Buffer.from('06092a864886f70d0105', 'hex'))
    return isEncrypted ? closed : { refused: 'something-else' }
  }
  const shell = shellOf(der)
  if (!shell || !Array.isArray(shell.value) || shell.value.length < 2) return { refused: 'something-else' }
  const text = (value: Asn1): string => Buffer.from(asn1.toDer(value).getBytes(), 'binary').toString('base64')
  for (const passphrase of given.passphrase === null ? [undefined, ''] : [given.passphrase]) {
    const opened = attempt(() =>
      passphrase === undefined ? pkcs12.pkcs12FromAsn1(shell, false) : pkcs12.pkcs12FromAsn1(shell, false, passphrase),
    )
    if (!opened) continue
    const bags = opened.safeContents.flatMap((content) => content.safeBags)
    const { certBag, keyBag, pkcs8ShroudedKeyBag } = pki.oids
    return {
      // forge reads RSA itself; of all others it hands out the ASN.1, and Node's own reader takes it from there.
      keys: bags
        .filter(({ type }) => type === keyBag || type === pkcs8ShroudedKeyBag)
        .map((bag) => text(bag.key ? pki.wrapRsaPrivateKey(pki.privateKeyToAsn1(bag.key)) : bag.asn1)),
      certificates: bags
        .filter(({ type }) => type === certBag)
        .map((bag) => text(bag.cert ? pki.certificateToAsn1(bag.cert) : bag.asn1)),
    }
  }
  return closed
}
