/**
 * A language tag and what it falls back to, in small letters: `zh-hant-tw`, `zh-hant`, `zh` (RFC 4647 §3.4, lookup).
 * A single letter that begins an extension goes together with what follows it.
 */
export function languageChain(tag: string): string[] {
  const parts = tag.toLowerCase().replaceAll('_', '-').split('-')
  const chain: string[] = []
  while (parts.length > 0) {
    chain.push(parts.join('-'))
    parts.pop()
    while (parts.at(-1)?.length === 1) parts.pop()
  }
  return chain
}

/** Languages that are written from right to left, by their first subtag (Unicode CLDR, characterOrder). */
const rightToLeft = new Set(['ar', 'arc', 'ckb', 'dv', 'fa', 'he', 'ks', 'nqo', 'ps', 'sd', 'syr', 'ug', 'ur', 'yi'])
const rightToLeftScripts = new Set(['adlm', 'arab', 'hebr', 'mand', 'mend', 'nkoo', 'rohg', 'syrc', 'thaa'])

export function isRightToLeft(tag: string): boolean {
  const [language = '', ...rest] = tag.toLowerCase().split('-')
  const script = rest.find((part) => /^[a-z]{4}$/.test(part))
  return script === undefined ? rightToLeft.has(language) : rightToLeftScripts.has(script)
}

const strong = /[\p{L}]/u
const rightToLeftLetter =
  /[\p{Script=Arabic}\p{Script=Hebrew}\p{Script=Syriac}\p{Script=Thaana}\p{Script=Nko}\p{Script=Adlam}]/u

/** The direction of a text by its first letter (Unicode UAX #9, P2); `undefined` for one without letters. */
export function directionOf(text: string): 'ltr' | 'rtl' | undefined {
  const letter = strong.exec(text)?.[0]
  if (letter === undefined) return undefined
  return rightToLeftLetter.test(letter) ? 'rtl' : 'ltr'
}

/** BCP 47, as far as its shape goes (RFC 5646 §2.1, without the grandfathered ones). */
export const isLanguageTag = (text: string): boolean =>
  text.length <= 35 && /^[A-Za-z]{2,8}(?:-[A-Za-z0-9]{1,8})*$/.test(text)
