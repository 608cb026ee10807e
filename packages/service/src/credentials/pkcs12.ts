import forge from 'node-forge'
import { attempt } from './attempt.ts'
import { CredentialRefused } from './refusals.ts'

/** More rounds of key derivation than anybody exports with; beyond it a file is an attack. */
const mostRounds = 2_000_000

const { asn1, pki, pkcs12 } = forge
type Asn1 = forge.asn1.Asn1

/** Whether the bytes are the outer shell of RFC 7292: a sequence that begins with version 3. */
export function looksLikePkcs12(der: Buffer): boolean {
  const parts = attempt(() => asn1.fromDer(der.toString('binary')))?.value
  if (!Array.isArray(parts) || parts.length < 2) return false
  const [version] = parts
  return version?.type === asn1.Type.INTEGER && version.value === '\u0003'
}

/**
 * Opens a PKCS#12 file, of the modern (PBES2, AES) and the old encryption (RC2, 3DES).
 * @returns private keys as PKCS#8 and certificates, each as DER
 * @throws {CredentialRefused}
 */
export function openPkcs12(der: Buffer, passphrase: string | undefined): { keys: Buffer[]; certificates: Buffer[] } {
  const shell = asn1.fromDer(der.toString('binary'))
  if (mostRoundsIn(shell) > mostRounds) throw new CredentialRefused('too-costly')
  // No passphrase and an empty one are two things in this standard (RFC 7292 appendix B.1).
  const tries = passphrase === undefined ? [undefined, ''] : [passphrase]
  for (const one of tries) {
    const opened = attempt(() =>
      one === undefined ? pkcs12.pkcs12FromAsn1(shell, false) : pkcs12.pkcs12FromAsn1(shell, false, one),
    )
    if (opened) return contentsOf(opened)
  }
  throw new CredentialRefused(passphrase === undefined ? 'passphrase-needed' : 'wrong-passphrase')
}

function contentsOf(opened: forge.pkcs12.Pkcs12Pfx): { keys: Buffer[]; certificates: Buffer[] } {
  const bags = opened.safeContents.flatMap((content) => content.safeBags)
  const { certBag, keyBag, pkcs8ShroudedKeyBag } = pki.oids
  return {
    // forge reads RSA itself; of all others it hands out the ASN.1, and Node's own reader takes it from there.
    keys: bags
      .filter(({ type }) => type === keyBag || type === pkcs8ShroudedKeyBag)
      .map((bag) => toDer(bag.key ? pki.wrapRsaPrivateKey(pki.privateKeyToAsn1(bag.key)) : bag.asn1)),
    certificates: bags
      .filter(({ type }) => type === certBag)
      .map((bag) => toDer(bag.cert ? pki.certificateToAsn1(bag.cert) : bag.asn1)),
  }
}

const toDer = (value: Asn1): Buffer => Buffer.from(asn1.toDer(value).getBytes(), 'binary')

/**
 * Derivation parameters are a salt and a number of rounds, side by side. They are looked for wherever they may stand,
 * in the wrapped contents too, before any of them is run.
 */
function mostRoundsIn(node: Asn1): number {
  if (typeof node.value === 'string') {
    const { value } = node
    const inner =
      node.type === asn1.Type.OCTETSTRING && value.startsWith('0') ? attempt(() => asn1.fromDer(value)) : undefined
    return inner ? mostRoundsIn(inner) : 0
  }
  const [first, second, third] = node.value
  const isSalt = (one: Asn1 | undefined) => one?.type === asn1.Type.OCTETSTRING
  const here = roundsOf(isSalt(first) ? second : isSalt(second) ? third : undefined)
  return node.value.reduce((most, child) => Math.max(most, mostRoundsIn(child)), here)
}

const roundsOf = (node: Asn1 | undefined): number =>
  node?.type === asn1.Type.INTEGER && typeof node.value === 'string'
    ? Number.parseInt(forge.util.bytesToHex(node.value) || '0', 16)
    : 0
