// UTF-16 strings can hold lone surrogates (Unicode 15 §3.9, D75), which UTF-8 and a database’s JSON cannot.

/** Whether a text holds a lone surrogate. */
export const hasLoneSurrogate = (text: string): boolean => /\p{Cs}/u.test(text)

/** A text cut to `most` UTF-16 units, without splitting a surrogate pair. */
export const beginningOf = (text: string, most: number): string =>
  text.length <= most ? text : text.slice(0, /[\uD800-\uDBFF]/.test(text[most - 1] ?? '') ? most - 1 : most)

/** A lone surrogate as `JSON.stringify` writes it; whole characters stand as they are (ECMA-262 §25.5.2.3). */
const escapedHalf = /(?<!\\)((?:\\\\)*)\\ud[89a-f][\da-f]{2}/g

/** JSON with U+FFFD for each lone surrogate, also in names of members. */
export function wellFormedJson(value: unknown): string {
  const json = JSON.stringify(value)
  return json.includes('\\ud') ? json.replace(escapedHalf, '$1\uFFFD') : json
}
