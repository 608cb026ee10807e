/**
 * Makes a UUID version 7 (RFC 9562 §5.7): 48 bits of milliseconds, then chance.
 * @param nowMs milliseconds since 1970, below 2^48
 * @param chance 10 random bytes
 */
export function uuidV7(nowMs: number, chance: Uint8Array): string {
  if (chance.length !== 10) throw new RangeError('uuidV7 wants 10 random bytes')
  const bytes = new Uint8Array(16)
  let rest = nowMs
  for (let i = 5; i >= 0; i--) {
    bytes[i] = rest % 256
    rest = Math.floor(rest / 256)
  }
  bytes.set(chance, 6)
  bytes[6] = 0x70 | (bytes[6]! & 0x0f)
  bytes[8] = 0x80 | (bytes[8]! & 0x3f)
  return uuidFromBytes(bytes)
}

/** The canonical text of 16 bytes (RFC 9562 §4). */
export function uuidFromBytes(bytes: Uint8Array): string {
  if (bytes.length !== 16) throw new RangeError('a UUID has 16 bytes')
  let text = ''
  for (let i = 0; i < 16; i++) text += i === 4 || i === 6 || i === 8 || i === 10 ? `-${hex[bytes[i]!]}` : hex[bytes[i]!]
  return text
}

const hex: readonly string[] = Array.from({ length: 256 }, (_, byte) => byte.toString(16).padStart(2, '0'))

/** The 16 bytes of a UUID's canonical text; `undefined` when the text is not one. */
export function uuidToBytes(text: string): Uint8Array<ArrayBuffer> | undefined {
  if (!isUuid(text)) return undefined
  const bytes = new Uint8Array(16)
  for (let i = 0, at = 0; i < 16; i++, at += 2) {
    if (text[at] === '-') at++
    bytes[i] = Number.parseInt(text.slice(at, at + 2), 16)
  }
  return bytes
}

export const isUuid = (text: string): boolean =>
  /^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$/.test(text)
