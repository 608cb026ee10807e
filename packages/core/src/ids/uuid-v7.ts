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
  const hex = Array.from(bytes, (b) => b.toString(16).padStart(2, '0')).join('')
  return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-${hex.slice(12, 16)}-${hex.slice(16, 20)}-${hex.slice(20)}`
}

/** The 16 bytes of a UUID's canonical text; `undefined` when the text is not one. */
export function uuidToBytes(text: string): Uint8Array<ArrayBuffer> | undefined {
  if (!isUuid(text)) return undefined
  const hex = text.replaceAll('-', '')
  return Uint8Array.from({ length: 16 }, (_, i) => Number.parseInt(hex.slice(i * 2, i * 2 + 2), 16))
}

export const isUuid = (text: string): boolean =>
  /^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$/.test(text)
