import { exportJWK, generateKeyPair, importJWK, type JWK, SignJWT } from 'jose'

/** A key with which a gateway's tokens are signed. */
export type Signer = { readonly jwk: JWK; readonly keyId: string; readonly issuer: string }

export async function makeSigner(): Promise<Signer> {
  const { privateKey } = await generateKeyPair('ES256', { extractable: true })
  return { jwk: await exportJWK(privateKey), keyId: 'BENCH1', issuer: 'BENCH' }
}

/** What a gateway knows of it. */
export function knownOf({ jwk, keyId, issuer }: Signer) {
  const { d: _, ...known } = jwk
  return { kid: keyId, issuer, jwk: known }
}

/** What a request of the bare loop shows at the gateway of iOS devices. */
export async function badgeOf({ jwk, keyId, issuer }: Signer): Promise<string> {
  const key = await importJWK(jwk, 'ES256')
  const token = new SignJWT().setProtectedHeader({ alg: 'ES256', kid: keyId }).setIssuer(issuer).setIssuedAt()
  return `Badge ${await token.sign(key)}`
}
