const encoder = new TextEncoder()

export const utf8 = (text: string): Uint8Array<ArrayBuffer> => encoder.encode(text)

export function concatBytes(...parts: readonly Uint8Array[]): Uint8Array<ArrayBuffer> {
  const whole = new Uint8Array(parts.reduce((sum, part) => sum + part.length, 0))
  let at = 0
  for (const part of parts) {
    whole.set(part, at)
    at += part.length
  }
  return whole
}

const alphabet = 'ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_'
const valueByLetter = new Map(Array.from(alphabet, (letter, value) => [letter, value]))

/** Base64url without padding (RFC 4648 §5). */
export function toBase64url(bytes: Uint8Array): string {
  let text = ''
  for (let i = 0; i < bytes.length; i += 3) {
    const left = bytes.length - i
    const word = (bytes[i]! << 16) | ((bytes[i + 1] ?? 0) << 8) | (bytes[i + 2] ?? 0)
    text += alphabet[word >> 18]! + alphabet[(word >> 12) & 63]!
    if (left > 1) text += alphabet[(word >> 6) & 63]!
    if (left > 2) text += alphabet[word & 63]!
  }
  return text
}

/** @returns `undefined` when the text is not base64url without padding */
export function fromBase64url(text: string): Uint8Array<ArrayBuffer> | undefined {
  if (text.length % 4 === 1) return undefined
  const bytes = new Uint8Array(Math.floor((text.length * 3) / 4))
  let word = 0
  let bits = 0
  let at = 0
  for (const letter of text) {
    const value = valueByLetter.get(letter)
    if (value === undefined) return undefined
    word = ((word << 6) | value) & 0xffffff
    bits += 6
    if (bits >= 8) {
      bits -= 8
      bytes[at++] = (word >> bits) & 0xff
    }
  }
  return bytes
}
