import { createHash, createPublicKey, generateKeyPair, type X509Certificate } from 'node:crypto'
import { promisify } from 'node:util'
import forge from 'node-forge'
import { attempt } from './attempt.ts'

const { asn1, md, pki } = forge
/** So that any letters may stand in a name; the types take it for something else. */
const utf8 = asn1.Type.UTF8 as unknown as forge.asn1.Class
const makeKeyPair = promisify(generateKeyPair)

/** Whether the bytes are a request for a certificate (RFC 2986 §4): its version is 0, and a name and a key follow. */
export function isCertificateRequest(der: Buffer): boolean {
  const [info] = partsOf(attempt(() => asn1.fromDer(der.toString('binary'))))
  const [version, subject, key] = partsOf(info)
  const isSequence = (one: forge.asn1.Asn1 | undefined) => one?.type === asn1.Type.SEQUENCE
  return version?.type === asn1.Type.INTEGER && version.value === '\u0000' && isSequence(subject) && isSequence(key)
}

const partsOf = (node: forge.asn1.Asn1 | undefined): readonly forge.asn1.Asn1[] =>
  Array.isArray(node?.value) ? node.value : []

/** Keys of so many bits are what every platform takes for its certificates. */
const keyBits = 2_048

export type MadeRequest = { readonly pem: string; readonly privateKey: Buffer; readonly publicKeyHash: string }

/**
 * Makes a key pair and a PKCS#10 request (RFC 2986) for it.
 * @param commonName what the certificate shall be for; shown by the platform
 */
export async function makeCertificateRequest(commonName: string): Promise<MadeRequest> {
  const { publicKey, privateKey } = await makeKeyPair('rsa', { modulusLength: keyBits })
  const request = pki.createCertificationRequest()
  request.publicKey = pki.publicKeyFromPem(publicKey.export({ type: 'spki', format: 'pem' }) as string)
  request.setSubject([{ name: 'commonName', value: commonName, valueTagClass: utf8 }])
  request.sign(pki.privateKeyFromPem(privateKey.export({ type: 'pkcs8', format: 'pem' }) as string), md.sha256.create())
  return {
    pem: pki.certificationRequestToPem(request).replaceAll('\r\n', '\n'),
    privateKey: privateKey.export({ type: 'pkcs8', format: 'der' }),
    publicKeyHash: hashOf(publicKey.export({ type: 'spki', format: 'der' })),
  }
}

/** By which a certificate finds the request that it was issued for. */
export const publicKeyHash = (certificate: X509Certificate): string =>
  hashOf(
    createPublicKey(certificate.publicKey.export({ type: 'spki', format: 'pem' })).export({
      type: 'spki',
      format: 'der',
    }),
  )

const hashOf = (der: Buffer): string => createHash('sha256').update(der).digest('hex')
