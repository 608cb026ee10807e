type Bytes = Uint8Array<ArrayBuffer>

/** The cryptography that the core needs, given by whoever runs it. Points are uncompressed, 65 bytes; scalars 32. */
export type CryptoPort = {
  /** A fresh P-256 key pair. */
  p256KeyPair(): { readonly privateKey: Bytes; readonly publicKey: Bytes }
  /** The x coordinate of the product, 32 bytes. @throws when `publicKey` is not a point on P-256 */
  p256Agree(privateKey: Uint8Array, publicKey: Uint8Array): Bytes
  hmacSha256(key: Uint8Array, message: Uint8Array): Bytes
  /** Ciphertext with the tag of 16 bytes behind it. */
  aes128GcmSeal(key: Uint8Array, nonce: Uint8Array, plaintext: Uint8Array): Bytes
  /** @throws when the tag does not fit */
  aes128GcmOpen(key: Uint8Array, nonce: Uint8Array, sealed: Uint8Array): Bytes
  /** An ES256 signature as RFC 7518 §3.4 wants it: r and s, 64 bytes. */
  es256Sign(privateKey: Uint8Array, publicKey: Uint8Array, message: Uint8Array): Bytes
  randomBytes(count: number): Bytes
}
