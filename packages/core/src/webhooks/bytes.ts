/** @returns `undefined` for what is not base64 (RFC 4648 §4), with or without its padding */
export function bytesOfBase64(text: string): Uint8Array<ArrayBuffer> | undefined {
  if (!/^[A-Za-z0-9+/]*={0,2}$/.test(text)) return undefined
  try {
    return Uint8Array.from(atob(text), (unit) => unit.charCodeAt(0))
  } catch {
    return undefined
  }
}

export const base64OfBytes = (bytes: Uint8Array): string => btoa(String.fromCharCode(...bytes))

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
