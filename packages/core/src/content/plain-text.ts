/**
 * What makes a text unfit for a lock screen, or `undefined`: control characters other than tab and line feed, embeddings and
 * overrides of the direction of letters, which make what follows look like something else (isolates do not), and surrogates
 * without their partner, which no encoder can carry.
 */
export function textFault(text: string): string | undefined {
  for (let i = 0; i < text.length; i++) {
    const unit = text.charCodeAt(i)
    if (unit < 0x20 && unit !== 0x09 && unit !== 0x0a) return `has the control character ${hex(unit)} at position ${i}`
    if (unit >= 0x7f && unit <= 0x9f) return `has the control character ${hex(unit)} at position ${i}`
    if (unit >= 0x202a && unit <= 0x202e)
      return `has ${hex(unit)}, which turns the direction of letters, at position ${i}`
    if (unit >= 0xd800 && unit <= 0xdfff) {
      const next = text.charCodeAt(i + 1)
      const paired = unit < 0xdc00 && next >= 0xdc00 && next <= 0xdfff
      if (!paired) return `has half of a surrogate pair at position ${i}`
      i++
    }
  }
  return undefined
}

const hex = (unit: number): string => `U+${unit.toString(16).toUpperCase().padStart(4, '0')}`
