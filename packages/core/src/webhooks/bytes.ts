import { fromBase64url, toBase64url } from '../webpush/bytes.ts'

/** @returns `undefined` for what is not base64 (RFC 4648 §4), with or without its padding */
export const bytesOfBase64 = (text: string): Uint8Array<ArrayBuffer> | undefined =>
  /^[A-Za-z0-9+/]*={0,2}$/.test(text)
    ? fromBase64url(text.replace(/=+$/, '').replaceAll('+', '-').replaceAll('/', '_'))
    : undefined

export const base64OfBytes = (bytes: Uint8Array): string => {
  const text = toBase64url(bytes).replaceAll('-', '+').replaceAll('_', '/')
  return text.padEnd(Math.ceil(text.length / 4) * 4, '=')
}

/** @returns `undefined` for what is not pairs of hexadecimal digits */
export const bytesOfHex = (text: string): Uint8Array<ArrayBuffer> | undefined =>
  /^(?:[0-9a-f]{2})*$/i.test(text)
    ? Uint8Array.from(text.match(/../g) ?? [], (pair) => Number.parseInt(pair, 16))
    : undefined

/** Takes as long for bytes that differ early as for those that differ late. */
export function areSame(a: Uint8Array, b: Uint8Array): boolean {
  if (a.length !== b.length) return false
  let differ = 0
  for (let at = 0; at < a.length; at++) differ |= (a[at] ?? 0) ^ (b[at] ?? 0)
  return differ === 0
}
