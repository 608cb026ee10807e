export type PemBlock = { readonly label: string; readonly pem: string }

const begin = '-----BEGIN '
const dashes = '-----'

/**
 * The blocks of a text (RFC 7468), with whatever text stands around them. Found by looking for the marks from left to
 * right, so that a hostile text costs no more than its length.
 */
export function pemBlocks(text: string): PemBlock[] {
  const blocks: PemBlock[] = []
  for (let at = text.indexOf(begin); at >= 0; ) {
    const labelEnd = text.indexOf(dashes, at + begin.length)
    if (labelEnd < 0) break
    const label = text.slice(at + begin.length, labelEnd)
    const end = `-----END ${label}-----`
    const stop = text.indexOf(end, labelEnd)
    if (stop < 0) break
    const pem = text
      .slice(at, stop + end.length)
      .replaceAll('\r\n', '\n')
      .replaceAll('\r', '\n')
    blocks.push({ label, pem: `${pem}\n` })
    at = text.indexOf(begin, stop + end.length)
  }
  return blocks
}
